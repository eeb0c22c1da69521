"""Readings as columns, and their summaries by visit."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import fields, replace
from statistics import NormalDist
from typing import Any

import numpy as np

from ferocal.analysis.data.segments import (
    FloatArray,
    IntArray,
    Segments,
    find_segments,
    sort_within,
)
from ferocal.analysis.data.series import Scale, Series
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import has_ratios

# With fewer runs than this, the mean summarises a visit; with more, the median does,
# since it resists the occasional disturbed run.
MEDIAN_FROM_RUNS = 3
NO_ROUND = -1
# Rounds of the same number in which configurations were not measured near each other in time
# differ by multiples of this.
ROUND_STRIDE = 2_000_000


def round_number(round_of: IntArray) -> IntArray:
    """The numbers that rounds have for people, `NO_ROUND` where there is none; shape (n,)."""
    return np.where(round_of < 0, NO_ROUND, round_of % ROUND_STRIDE)


@dataclass(frozen=True, eq=False)
class Readings:
    """Valid readings, one per row.

    All columns have shape (n,). ``series_of``, ``bench_of`` and ``configuration_of`` index into
    ``series``, ``benches`` and ``configurations``; ``round_of`` is `NO_ROUND` where no round is
    known, and rounds of one number that do not pair differ by `ROUND_STRIDE`; ``visit_of`` and
    ``run_of`` number visits and runs in the order of time and are equal for readings of one
    visit or run; ``samples`` counts the single values that a reading summarises, NaN where
    unknown; ``width`` is half of the range in which it was read, in the unit, mostly 0;
    ``bound`` is +1 where the true value is above the reading and −1 where it is below, mostly
    0; ``time`` is when the visit began, in days since 1970, NaN where unknown. Runs of
    ``unknown_arms`` (by their codes) have a separate visit each, because it is unknown which
    belong together.
    """

    benches: tuple[str, ...]
    series: tuple[Series, ...]
    configurations: tuple[str, ...]
    series_of: IntArray
    bench_of: IntArray
    configuration_of: IntArray
    round_of: IntArray
    visit_of: IntArray
    run_of: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
    bound: IntArray
    time: FloatArray
    unknown_arms: frozenset[int] = frozenset()

    def select(self, rows: np.ndarray) -> Readings:
        """Only these rows, named by a mask or by indices."""
        columns: dict[str, Any] = {name: getattr(self, name)[rows] for name in _COLUMNS}
        return replace(self, **columns)

    @functools.cached_property
    def arm_of(self) -> IntArray:
        """The arm of every reading, shape (n,): a series on a bench under a configuration."""
        strand = self.series_of * len(self.benches) + self.bench_of
        return strand * len(self.configurations) + self.configuration_of

    @property
    def cell_of(self) -> IntArray:
        """The bench and configuration of every reading as one number, shape (n,)."""
        return self.bench_of * len(self.configurations) + self.configuration_of

    @property
    def arm_count(self) -> int:
        """How many arms there can be."""
        return len(self.series) * len(self.benches) * len(self.configurations)

    def on_bench(self, bench: int) -> Readings:
        """The readings that were taken on one bench."""
        return self if len(self.benches) == 1 else self.select(self.bench_of == bench)

    @functools.cached_property
    def numbers(self) -> Readings:
        """The readings without those that are only bounds, which enter no mean."""
        return self.select(self.bound == 0) if self.bound.any() else self

    def up_to_round(self, last: int) -> Readings:
        """The readings of the first rounds."""
        return self.select(round_number(self.round_of) <= last)


_COLUMNS = tuple(field.name for field in fields(Readings) if field.type.endswith("Array"))
# What several questions ask of the same readings is found once; so many answers are kept.
_KEPT = 6


@dataclass(frozen=True)
class VisitSummaries:
    """One row per series, bench, configuration and visit, sorted in that order; shape (m,).

    Visits of one configuration in one round are one, so that a visit that was interrupted
    and its continuation count once. ``visit_of`` is its first visit in order of time.
    ``centre`` is on the scale of the analysis: the natural logarithm of the unit for
    series on the "ratio" scale, the unit itself on the "difference" scale. ``runs``
    counts the runs behind it. ``scales`` has one entry per series. ``arm_of`` numbers the
    arms as `Readings` do.
    """

    series_of: IntArray
    bench_of: IntArray
    configuration_of: IntArray
    round_of: IntArray
    visit_of: IntArray
    centre: FloatArray
    runs: IntArray
    scales: tuple[Scale, ...]
    arm_of: IntArray


def replicate_keys(visits: Readings | VisitSummaries, place: IntArray) -> IntArray:
    """One number per visit to each ``place``; visits in one round are one. Shape (n,)."""
    replicate = replicates(visits)
    replicate -= replicate.min(initial=0)
    keys: IntArray = place * (int(replicate.max(initial=0)) + 1) + replicate
    return keys


def replicates(visits: Readings | VisitSummaries) -> IntArray:
    """The round of every row, and numbers below `NO_ROUND` for visits that have none."""
    alone = visits.round_of == NO_ROUND
    return np.where(alone, NO_ROUND - 1 - visits.visit_of, visits.round_of)


def middle_of_runs(visits: Segments, ascending: FloatArray) -> FloatArray:
    """What stands for the runs of each visit: their median, the mean of fewer than 3."""
    few = visits.counts < MEDIAN_FROM_RUNS
    return np.where(few, visits.mean(ascending), visits.median_of_sorted(ascending))


def concatenate(parts: Sequence[Readings]) -> Readings:
    """Readings of the same study in one piece."""
    columns: dict[str, Any] = {n: np.concatenate([getattr(p, n) for p in parts]) for n in _COLUMNS}
    return replace(parts[0], **columns)


@functools.lru_cache(maxsize=_KEPT)
def choose_scales(readings: Readings, *, margins: bool = True) -> tuple[Scale, ...]:
    """Ratios where every reading of a series is positive, differences elsewhere.

    Temperatures, whose zero is arbitrary, are on the "difference" scale in any case, and so is a
    series with a margin in its own unit, unless ``margins`` do not matter: they have ratios all
    the same.
    """
    smallest = np.full(len(readings.series), np.inf)
    # What is below a bound may be near zero, but it is not said to be zero or less.
    np.minimum.at(smallest, readings.series_of, readings.value - readings.width)
    return tuple(
        "ratio"
        if low > 0 and not (margins and series.unit_margin) and has_ratios(series.unit)
        else "difference"
        for low, series in zip(smallest, readings.series, strict=True)
    )


def to_scale(readings: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """The values on the scale of the analysis, shape (n,)."""
    ratio = np.array([scale == "ratio" for scale in scales], dtype=bool)
    logarithmic = ratio[readings.series_of] if len(scales) else np.zeros(0, dtype=bool)
    return np.log(readings.value, where=logarithmic, out=readings.value.astype(float))


@functools.lru_cache(maxsize=_KEPT)
def summarise_visits(readings: Readings, scales: tuple[Scale, ...] | None = None) -> VisitSummaries:
    """Summarise the runs of each visit by their median (their mean if fewer than 3).

    ``scales`` are those of `choose_scales` unless given.
    """
    scales = choose_scales(readings) if scales is None else scales
    value = to_scale(readings, scales)
    group = replicate_keys(readings, readings.arm_of)
    order = sort_within(value, group)
    segments = find_segments([group[order]])
    centre = middle_of_runs(segments, value[order])
    first_visit = np.minimum.reduceat(readings.visit_of[order], segments.starts)
    first = order[segments.starts]
    return VisitSummaries(
        series_of=readings.series_of[first],
        bench_of=readings.bench_of[first],
        configuration_of=readings.configuration_of[first],
        round_of=readings.round_of[first],
        visit_of=first_visit,
        centre=centre,
        runs=segments.counts,
        scales=scales,
        arm_of=readings.arm_of[first],
    )


def reading_uncertainty(readings: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """Standard uncertainty of reading by arm, shape (a,).

    A range says that the reading lies somewhere in it: its half over the root of three
    (JCGM 100:2008, Evaluation of measurement data, 4.3.7). Who reads too high once does so
    again, so it does not shrink with the number of readings. The range of several repeats says how
    these vary: its length over that expected of so many normal values (Blom 1958, Statistical
    Estimates and Transformed Beta-Variables) is their standard deviation, and that of their mean is
    smaller. On the scale of the analysis.
    """
    ratio = np.array([scale == "ratio" for scale in scales], dtype=bool)[readings.series_of]
    width = np.where(ratio, readings.width / np.where(ratio, readings.value, 1.0), readings.width)
    arm, size = readings.arm_of, readings.arm_count
    count = np.maximum(1, np.bincount(arm, minlength=size))
    each = width / np.sqrt(3)
    repeats = (readings.samples > 1) & (width > 0)
    if repeats.any():
        number = readings.samples[repeats]
        shares = ((number - 0.375) / (number + 0.25)).tolist()
        expected = 2 * np.array([NormalDist().inv_cdf(share) for share in shares])
        each[repeats] = 2 * width[repeats] / expected / np.sqrt(number)
    uncertainty: FloatArray = np.bincount(arm, each, size) / count
    return uncertainty


def runs_per_visit(readings: Readings, series: int, bench: int) -> float:
    """How many runs of a metric the visits to a bench have on average."""
    rows = (readings.series_of == series) & (readings.bench_of == bench)
    return float(rows.sum()) / max(1, len(np.unique(readings.visit_of[rows])))
