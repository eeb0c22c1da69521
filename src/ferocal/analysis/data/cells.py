"""What was read, by series and configuration: centre, spread, counts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ferocal.analysis.data.readings import Readings, Series, choose_scales, summarise_visits
from ferocal.analysis.data.segments import find_segments, sort_within


@dataclass(frozen=True)
class Cell:
    """What was read of one series on one bench under one configuration.

    ``centre`` is in the unit of the series: the geometric mean of the visits' summaries
    (the arithmetic mean on the "difference" scale). ``cv`` is the sample standard
    deviation of single runs over their mean, NaN below two runs or at a mean of zero.
    ``rounds`` counts the rounds that were visited, or the visits where there are none.
    """

    bench: str
    series: Series
    configuration: str
    centre: float
    cv: float
    runs: int
    rounds: int


def tabulate(readings: Readings, bench: int = 0) -> list[list[Cell | None]]:
    """Cells of a bench by series (rows) and configuration (columns); None where nothing was read.

    The scale of a series is chosen by its readings on all benches.
    """
    scales = choose_scales(readings)
    readings = readings.on_bench(bench)
    rows: list[list[Cell | None]] = [[None] * len(readings.configurations) for _ in readings.series]
    if not len(readings.value):
        return rows
    summaries = summarise_visits(readings, scales)
    arms = find_segments((summaries.series_of, summaries.configuration_of))
    centres = arms.mean(summaries.centre)
    arm = readings.series_of * len(readings.configurations) + readings.configuration_of
    # Sorted values give the same sums in whatever order they came.
    order = sort_within(readings.value, arm)
    value = readings.value[order]
    runs = find_segments([arm[order]])
    means = runs.mean(value)
    with np.errstate(divide="ignore", invalid="ignore"):
        cvs = np.sqrt(runs.variance(value)) / np.abs(means)
    # Both are sorted by series and configuration, and cover the same of them.
    for n, start in enumerate(arms.starts):
        s, c = int(summaries.series_of[start]), int(summaries.configuration_of[start])
        rows[s][c] = Cell(
            readings.benches[bench],
            readings.series[s],
            readings.configurations[c],
            float(np.exp(centres[n])) if summaries.scales[s] == "ratio" else float(centres[n]),
            float(cvs[n]) if means[n] != 0 else float("nan"),
            int(runs.counts[n]),
            int(arms.counts[n]),
        )
    return rows
