"""Readings as columns, and their summaries by visit."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]
Scale = Literal["ratio", "difference"]

# With fewer runs than this, the mean summarises a visit; with more, the median does,
# since it resists the occasional disturbed run.
MEDIAN_FROM_RUNS = 3


@dataclass(frozen=True)
class Series:
    """One metric of one workload. ``margin`` is a share (0.02 is 2 %)."""

    workload: str
    metric: str
    unit: str
    better: Literal["higher", "lower"]
    margin: float
    primary: bool = False


@dataclass(frozen=True)
class Readings:
    """Valid readings, one per row.

    ``series_of``, ``configuration_of``, ``round_of``, ``run_of`` and ``value`` have
    shape (n,). The first two index into ``series`` and ``configurations``; ``run_of``
    is equal for readings of one run.
    """

    bench: str
    series: tuple[Series, ...]
    configurations: tuple[str, ...]
    series_of: IntArray
    configuration_of: IntArray
    round_of: IntArray
    run_of: IntArray
    value: FloatArray

    def up_to_round(self, last: int) -> Readings:
        """The readings of the first rounds."""
        early = self.round_of <= last
        return replace(
            self,
            series_of=self.series_of[early],
            configuration_of=self.configuration_of[early],
            round_of=self.round_of[early],
            run_of=self.run_of[early],
            value=self.value[early],
        )


@dataclass(frozen=True)
class VisitSummaries:
    """One row per series, configuration and round, sorted in that order; shape (m,).

    ``centre`` is on the scale of the analysis: the natural logarithm of the unit for
    series on the "ratio" scale, the unit itself on the "difference" scale. ``runs``
    counts the runs behind it. ``scales`` has one entry per series.
    """

    series_of: IntArray
    configuration_of: IntArray
    round_of: IntArray
    centre: FloatArray
    runs: IntArray
    scales: tuple[Scale, ...]


def choose_scales(readings: Readings) -> tuple[Scale, ...]:
    """Ratios where every reading of a series is positive, differences elsewhere."""
    smallest = np.full(len(readings.series), np.inf)
    np.minimum.at(smallest, readings.series_of, readings.value)
    return tuple("ratio" if low > 0 else "difference" for low in smallest)


def summarise_visits(readings: Readings) -> VisitSummaries:
    """Summarise the runs of each visit by their median (their mean if fewer than 3)."""
    scales = choose_scales(readings)
    logarithmic = np.array([scale == "ratio" for scale in scales], dtype=bool)
    value = readings.value.copy()
    ratio = logarithmic[readings.series_of] if len(value) else np.zeros(0, dtype=bool)
    value[ratio] = np.log(value[ratio])
    order = np.lexsort((value, readings.round_of, readings.configuration_of, readings.series_of))
    keys = np.stack(
        [c[order] for c in (readings.series_of, readings.configuration_of, readings.round_of)]
    )
    starts = np.flatnonzero(np.r_[True, np.any(keys[:, 1:] != keys[:, :-1], axis=0)][: len(value)])
    counts = np.diff(np.r_[starts, len(value)])
    centre = _centres(value[order], starts, counts)
    first = keys[:, starts]
    return VisitSummaries(first[0], first[1], first[2], centre, counts, scales)


def _centres(ordered: FloatArray, starts: IntArray, counts: IntArray) -> FloatArray:
    """Median of each stretch of ordered values, or mean of a short one."""
    if not len(ordered):
        return np.zeros(0)
    means = np.add.reduceat(ordered, starts) / counts
    medians = (ordered[starts + (counts - 1) // 2] + ordered[starts + counts // 2]) / 2
    return np.where(counts < MEDIAN_FROM_RUNS, means, medians)


@dataclass(frozen=True)
class Cell:
    """What was read of one series under one configuration.

    ``centre`` is in the unit of the series: the geometric mean of the visits' summaries
    (the arithmetic mean on the "difference" scale). ``cv`` is the sample standard
    deviation of single runs over their mean, NaN below two runs or at a mean of zero.
    """

    series: Series
    configuration: str
    centre: float
    cv: float
    runs: int
    rounds: int


def tabulate(readings: Readings) -> list[list[Cell | None]]:
    """Cells by series (rows) and configuration (columns); None where nothing was read."""
    summaries = summarise_visits(readings)
    rows: list[list[Cell | None]] = []
    for s, series in enumerate(readings.series):
        row: list[Cell | None] = []
        for c, configuration in enumerate(readings.configurations):
            chosen = (summaries.series_of == s) & (summaries.configuration_of == c)
            mean = float(summaries.centre[chosen].mean()) if chosen.any() else float("nan")
            centre = float(np.exp(mean)) if summaries.scales[s] == "ratio" else mean
            own = readings.value[(readings.series_of == s) & (readings.configuration_of == c)]
            row.append(
                Cell(series, configuration, centre, _cv(own), len(own), int(chosen.sum()))
                if len(own)
                else None
            )
        rows.append(row)
    return rows


def _cv(values: FloatArray) -> float:
    if len(values) < 2 or values.mean() == 0:
        return float("nan")
    return float(values.std(ddof=1) / abs(values.mean()))
