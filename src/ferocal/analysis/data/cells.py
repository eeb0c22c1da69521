"""What was read, by series and configuration: centre, spread, counts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import Readings, choose_scales, summarise_visits
from ferocal.analysis.data.segments import find_segments, sort_within
from ferocal.analysis.data.series import Scale, Series
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Cell:
    """What was read of one series on one bench under one configuration.

    ``centre`` is in the unit of the series: the geometric mean of the visits' summaries
    (the arithmetic mean on the "difference" scale, and of whatever has a part on that scale, so
    that no part is more than the whole). ``cv`` is the sample standard
    deviation of single runs over their mean, NaN below two runs or at a mean of zero, and
    0 only where all are equal. ``rounds`` counts the rounds that were visited, or the visits
    where there are none. ``span`` is that of the ranges off moving displays, from the lowest
    end to the highest, None where there were none. With a ``bound`` (">" or "<") nothing but
    bounds was read; ``bounds`` counts those beside the readings.
    """

    bench: str
    series: Series
    configuration: str
    centre: float
    cv: float
    runs: int
    rounds: int
    span: tuple[float, float] | None = None
    bound: str | None = None
    bounds: int = 0


def tabulate(
    readings: Readings, bench: int = 0, configuration: int | None = None
) -> list[list[Cell | None]]:
    """Cells of a bench by series (rows) and configuration (columns); None where nothing was read.

    The scale of a series is chosen by its readings on all benches. Only the column of one
    ``configuration`` is filled where that is all that is wanted.
    """
    scales = _scales_of_centres(readings)
    everything = readings.on_bench(bench)
    if configuration is not None:
        everything = everything.select(everything.configuration_of == configuration)
    rows: list[list[Cell | None]] = [[None] * len(readings.configurations) for _ in readings.series]
    _fill(rows, everything.select(everything.bound != 0), scales, bench)
    bounds = [(s, c, cell) for s, row in enumerate(rows) for c, cell in enumerate(row) if cell]
    _fill(rows, everything.numbers, scales, bench)
    for s, c, beside in bounds:
        cell = rows[s][c]
        if cell is not None and cell is not beside:
            rows[s][c] = replace(cell, bounds=beside.runs)
    return rows


def _scales_of_centres(readings: Readings) -> tuple[Scale, ...]:
    """The scales on which the means are taken: one for a metric and its parts."""
    scales = choose_scales(readings)
    families: dict[tuple[str, str], set[int]] = {}
    for n, series in enumerate(readings.series):
        families.setdefault((series.workload, series.unit), set()).add(n)
    for members in families.values():
        has_parts = any(readings.series[n].depth for n in members)
        if has_parts and any(scales[n] == "difference" for n in members):
            scales = tuple("difference" if n in members else s for n, s in enumerate(scales))
    return scales


def _fill(
    rows: list[list[Cell | None]], readings: Readings, scales: tuple[Scale, ...], bench: int
) -> None:
    """Put the cells of readings of one kind, numbers or bounds, into their places."""
    if not len(readings.value):
        return
    summaries = summarise_visits(readings, scales)
    arms = find_segments((summaries.series_of, summaries.configuration_of))
    centres = arms.mean(summaries.centre)
    arm = readings.series_of * len(readings.configurations) + readings.configuration_of
    # Sorted values give the same sums in whatever order they came.
    order = sort_within(readings.value, arm)
    value, width, bound = readings.value[order], readings.width[order], readings.bound[order]
    runs = find_segments([arm[order]])
    means = runs.mean(value)
    with np.errstate(divide="ignore", invalid="ignore"):
        cvs = np.sqrt(runs.variance(value)) / np.abs(means)
    low = np.minimum.reduceat(value - width, runs.starts)
    high = np.maximum.reduceat(value + width, runs.starts)
    spread = np.maximum.reduceat(value, runs.starts) > np.minimum.reduceat(value, runs.starts)
    wide = np.maximum.reduceat(width, runs.starts) > 0
    # Both are sorted by series and configuration, and cover the same of them.
    for n, start in enumerate(arms.starts):
        s, c = int(summaries.series_of[start]), int(summaries.configuration_of[start])
        sign = int(bound[runs.starts[n]])
        rows[s][c] = Cell(
            readings.benches[bench],
            readings.series[s],
            readings.configurations[c],
            float(np.exp(centres[n])) if summaries.scales[s] == "ratio" else float(centres[n]),
            float(cvs[n] if spread[n] else 0.0 * cvs[n]) if means[n] != 0 else float("nan"),
            int(runs.counts[n]),
            int(arms.counts[n]),
            (float(low[n]), float(high[n])) if wide[n] else None,
            {1: ">", -1: "<"}.get(sign),
        )
