"""Components of variation: between runs of a visit, between visits, between rounds."""

from __future__ import annotations

import numpy as np

from ferocal.analysis.data.readings import (
    Readings,
    choose_scales,
    reading_uncertainty,
    summarise_visits,
    to_scale,
)
from ferocal.analysis.data.resolution import find_resolution, find_steps
from ferocal.analysis.data.segments import FloatArray, find_segments, sort_within
from ferocal.analysis.data.series import Scale
from ferocal.analysis.inference.contrasts import METHODS, ContrastTable, Method, estimate_contrasts
from ferocal.analysis.inference.families import against_baseline
from ferocal.analysis.inference.noise_floors import NoiseFloor, share_of_runs
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Components:
    """Variation of one series, on the scale of the analysis (natural logarithms mostly).

    ``round_sd`` is the pooled standard deviation of differences within rounds, with
    ``degrees`` of freedom. ``run_variance`` is that of single runs within a visit, NaN
    with one run per visit; ``visit_variance`` is what visits add to it, never below zero.
    ``scale`` is the scale of the analysis. ``fixed`` is the uncertainty of a difference that
    no number of rounds takes away: of ranges that were read, and of the resolution.
    """

    round_sd: float
    degrees: int
    run_variance: float
    visit_variance: float
    scale: Scale = "ratio"
    fixed: float = 0.0


def estimate_components(
    readings: Readings, baseline: str, bench: int = 0
) -> list[Components | None]:
    """Components of every series on a bench; None until two rounds pair.

    The differences of each configuration to the baseline are pooled. Half of their
    variance is that of a visit's summary, of which the runs' share is taken off.
    """
    scales = choose_scales(readings)
    readings = readings.on_bench(bench).numbers
    if not len(readings.value):
        return [None] * len(readings.series)
    table = estimate_contrasts(
        summarise_visits(readings, scales),
        readings,
        against_baseline(readings, baseline),
        interleaved=True,
        floor_of=lambda series, bench: None,
    )
    run_variance = run_variances(readings, scales)
    strands = [s * len(readings.benches) + bench for s in range(len(readings.series))]
    fixed = _fixed(readings, scales)
    return [
        _components(table, strand, float(run_variance[strand]), scale, float(fixed[strand]))
        for strand, scale in zip(strands, scales, strict=True)
    ]


def _fixed(readings: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """By series and bench, what reading and resolution leave uncertain in a difference."""
    resolution = find_resolution(readings, scales, find_steps(readings))
    each = np.hypot(reading_uncertainty(readings, scales), resolution.error)
    strands = len(readings.series) * len(readings.benches)
    by_strand = each.reshape(strands, len(readings.configurations))
    used = np.bincount(readings.arm_of, minlength=readings.arm_count).reshape(by_strand.shape) > 0
    count = np.maximum(1, used.sum(axis=1))
    fixed: FloatArray = np.sqrt(2) * np.where(used, by_strand, 0.0).sum(axis=1) / count
    return fixed


def _components(
    table: ContrastTable, strand: int, run_variance: float, scale: Scale, fixed: float
) -> Components | None:
    rows = (table.strand_of == strand) & (table.method == METHODS.index(Method.PAIRED))
    degrees = int(np.sum(table.pairs[rows] - 1))
    if not degrees:
        return None
    variance = float(np.sum(table.sd[rows] ** 2 * (table.pairs[rows] - 1))) / degrees
    runs = table.runs[rows].sum() / table.pairs[rows].sum()
    share = 0.0 if np.isnan(run_variance) else run_variance * share_of_runs(runs)
    return Components(
        round_sd=float(np.sqrt(variance)),
        degrees=degrees,
        run_variance=run_variance,
        visit_variance=max(0.0, variance / 2 - share),
        scale=scale,
        fixed=fixed,
    )


def components_of(floor: NoiseFloor) -> Components:
    """The components behind a noise floor: two visits differ by twice its variance."""
    share = 0.0 if np.isnan(floor.run_variance) else floor.run_variance * share_of_runs(floor.runs)
    return Components(
        round_sd=float(np.sqrt(2 * floor.variance)),
        degrees=floor.degrees,
        run_variance=floor.run_variance,
        visit_variance=max(0.0, floor.variance - share),
        scale=floor.scale,
    )


def pool_sd(table: ContrastTable) -> FloatArray:
    """For every row the standard deviation of a contrast of single visits, shape (n,).

    Pooled over the contrasts of a series and bench where these are paired by round; as
    it is with other methods. A row without its own takes that of its series' rounds.
    """
    size = int(table.strand_of.max(initial=-1)) + 1
    paired = table.method == METHODS.index(Method.PAIRED)
    degrees = np.where(paired, table.pairs - 1.0, 0.0)
    squares = np.where(paired, np.nan_to_num(table.sd) ** 2 * degrees, 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        pooled = np.sqrt(
            np.bincount(table.strand_of, squares, size)
            / np.bincount(table.strand_of, degrees, size)
        )[table.strand_of]
    known = [METHODS.index(method) for method in (Method.FLOOR, Method.STATED)]
    use = paired | (np.isnan(table.sd) & ~np.isin(table.method, known))
    return np.where(use, pooled, table.sd)


def run_variances(readings: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """Pooled variance of runs within their visits, by series and bench, shape (s * b,).

    NaN with one run per visit. Of series s and bench b it is at ``s * benches + b``.
    """
    strand = readings.series_of * len(readings.benches) + readings.bench_of
    # A visit is to one configuration, so that strand and visit name it.
    label = strand * (int(readings.visit_of.max(initial=0)) + 1) + readings.visit_of
    scaled = to_scale(readings, scales)
    order = sort_within(scaled, label)
    value, strand = scaled[order], strand[order]
    visits = find_segments([label[order]])
    squares = (value - visits.mean(value)[visits.label]) ** 2
    size = len(readings.series) * len(readings.benches)
    used = np.bincount(strand[visits.starts], minlength=size)
    degrees = np.bincount(strand, minlength=size) - used
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(degrees > 0, np.bincount(strand, squares, size) / degrees, np.nan)
