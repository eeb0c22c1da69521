"""Components of variation: between runs of a visit, between visits, between rounds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ferocal.analysis.pairing import split_sides
from ferocal.analysis.readings import (
    FloatArray,
    Readings,
    choose_scales,
    summarise_visits,
)


@dataclass(frozen=True)
class Components:
    """Variation of one series, on the scale of the analysis (natural logarithms mostly).

    ``round_sd`` is the pooled standard deviation of differences within rounds, with
    ``degrees`` of freedom. ``run_variance`` is that of single runs within a visit, NaN
    with one run per visit; ``visit_variance`` is what visits add to it, never below zero.
    """

    round_sd: float
    degrees: int
    run_variance: float
    visit_variance: float


def estimate_components(readings: Readings, baseline: str, series: int) -> Components | None:
    """Components of a series; None until two rounds pair.

    The differences of each configuration to the baseline are pooled. Half of their
    variance is that of a visit's summary, of which the runs' share is taken off.
    """
    summaries = summarise_visits(readings)
    squares, degrees, runs = 0.0, 0, []
    sides = split_sides(summaries, series)
    base = sides.pop(readings.configurations.index(baseline), {})
    for side in sides.values():
        common = [r for r in side if r in base]
        if len(common) < 2:
            continue
        differences = np.array([side[r][0] - base[r][0] for r in common])
        squares += float(np.sum((differences - differences.mean()) ** 2))
        degrees += len(common) - 1
        runs += [side[r][1] for r in common]
    if not degrees:
        return None
    variance = squares / degrees
    run_variance = _run_variance(readings, series)
    own = 0.0 if np.isnan(run_variance) else run_variance / float(np.mean(runs))
    return Components(
        round_sd=float(np.sqrt(variance)),
        degrees=degrees,
        run_variance=run_variance,
        visit_variance=max(0.0, variance / 2 - own),
    )


def _run_variance(readings: Readings, series: int) -> float:
    """Pooled variance of runs within their visits."""
    own = readings.series_of == series
    values: FloatArray = readings.value[own]
    if choose_scales(readings)[series] == "ratio":
        values = np.log(values)
    visits = np.stack([readings.configuration_of[own], readings.round_of[own]])
    _, group, counts = np.unique(visits, axis=1, return_inverse=True, return_counts=True)
    group = group.ravel()
    means = np.bincount(group, values) / counts
    degrees = len(values) - len(counts)
    if degrees == 0:
        return float("nan")
    return float(np.sum((values - means[group]) ** 2) / degrees)
