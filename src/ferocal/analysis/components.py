"""Components of variation: between runs of a visit, between visits, between rounds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ferocal.analysis.contrasts import METHODS, Contrasts, Method, contrast
from ferocal.analysis.floors import NoiseFloor
from ferocal.analysis.readings import (
    Readings,
    Scale,
    choose_scales,
    summarise_visits,
    to_scale,
)
from ferocal.analysis.segments import FloatArray, find_segments, sort_within


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


def estimate_components(readings: Readings, baseline: str) -> list[Components | None]:
    """Components of every series; None until two rounds pair.

    The differences of each configuration to the baseline are pooled. Half of their
    variance is that of a visit's summary, of which the runs' share is taken off.
    """
    if not len(readings.value):
        return [None] * len(readings.series)
    scales = choose_scales(readings)
    table = contrast(
        summarise_visits(readings, scales),
        readings.configurations.index(baseline),
        len(readings.configurations),
        interleaved=True,
        floor_of=lambda series: None,
    )
    run_variance = run_variances(readings, scales)
    return [_components(table, s, float(run_variance[s])) for s in range(len(readings.series))]


def _components(table: Contrasts, series: int, run_variance: float) -> Components | None:
    own = (table.series_of == series) & (table.method == METHODS.index(Method.PAIRED))
    degrees = int(np.sum(table.pairs[own] - 1))
    if not degrees:
        return None
    variance = float(np.sum(table.sd[own] ** 2 * (table.pairs[own] - 1))) / degrees
    runs = table.runs[own].sum() / table.pairs[own].sum()
    share = 0.0 if np.isnan(run_variance) else run_variance / runs
    return Components(
        round_sd=float(np.sqrt(variance)),
        degrees=degrees,
        run_variance=run_variance,
        visit_variance=max(0.0, variance / 2 - share),
    )


def components_of(floor: NoiseFloor) -> Components:
    """The components that a noise floor tells: two visits differ by twice its variance."""
    share = 0.0 if np.isnan(floor.run_variance) else floor.run_variance / floor.runs
    return Components(
        round_sd=float(np.sqrt(2 * floor.variance)),
        degrees=floor.degrees,
        run_variance=floor.run_variance,
        visit_variance=max(0.0, floor.variance - share),
    )


def pool_sd(table: Contrasts) -> FloatArray:
    """For every row the standard deviation of a difference, shape (n,).

    Pooled over the configurations of a series where differences are paired by round; as
    it is with other methods. A row without its own takes that of its series' rounds.
    """
    size = int(table.series_of.max(initial=-1)) + 1
    paired = table.method == METHODS.index(Method.PAIRED)
    degrees = np.where(paired, table.pairs - 1.0, 0.0)
    squares = np.where(paired, np.nan_to_num(table.sd) ** 2 * degrees, 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        pooled = np.sqrt(
            np.bincount(table.series_of, squares, size)
            / np.bincount(table.series_of, degrees, size)
        )[table.series_of]
    use = paired | (np.isnan(table.sd) & (table.method != METHODS.index(Method.FLOOR)))
    return np.where(use, pooled, table.sd)


def run_variances(readings: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """Pooled variance of runs within their visits, by series; NaN with one run per visit."""
    # A visit is to one configuration, so that series and visit name it.
    label = readings.series_of * (int(readings.visit_of.max(initial=0)) + 1) + readings.visit_of
    scaled = to_scale(readings, scales)
    order = sort_within(scaled, label)
    value, series = scaled[order], readings.series_of[order]
    visits = find_segments([label[order]])
    squares = (value - visits.mean(value)[visits.label]) ** 2
    size = len(readings.series)
    used = np.bincount(series[visits.starts], minlength=size)
    degrees = np.bincount(series, minlength=size) - used
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(degrees > 0, np.bincount(series, squares, size) / degrees, np.nan)
