"""The steps in which readings come, and the uncertainty that nothing averages out."""

from __future__ import annotations

import functools
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray, IntArray, find_segments
from ferocal.analysis.data.series import Scale

_DECIMALS = 9
# With fewer distinct readings the step that all of them share is chance.
_FEWEST_DISTINCT = 6


@functools.lru_cache(maxsize=4)
def find_steps(readings: Readings) -> FloatArray:
    """The step of readings by series, shape (s,), in the unit of each; 0 where there is none.

    It is the declared resolution. Where none is declared it is the last decimal place that is
    used, or the larger step of which all readings are multiples apart, if there are enough of
    them to tell. Ranges tell nothing of steps.
    """
    steps = np.zeros(len(readings.series))
    sharp = readings.select(readings.width == 0)
    order = np.argsort(sharp.series_of, kind="stable")
    groups = find_segments([sharp.series_of[order]])
    for start, count in zip(groups.starts.tolist(), groups.counts.tolist(), strict=True):
        values = np.unique(sharp.value[order[start : start + count]])
        steps[int(sharp.series_of[order[start]])] = _step(values)
    declared = [series.resolution for series in readings.series]
    return np.array([s if d is None else d for s, d in zip(steps, declared, strict=True)])


def find_arm_steps(readings: Readings) -> tuple[FloatArray, IntArray]:
    """The last decimal place that each arm uses, and how many readings it has; shape (a,) each.

    In the unit of its series; 0 where readings are finer than any. Declared resolutions say
    nothing here: it is what is seen.
    """
    sharp = readings.select(readings.width == 0)
    order = np.argsort(sharp.arm_of, kind="stable")
    arms, values = sharp.arm_of[order], sharp.value[order]
    starts = find_segments([arms]).starts
    steps = np.zeros(readings.arm_count)
    used = arms[starts]
    # From the finest on, so that the coarsest place that fits stands.
    for decimals in range(_DECIMALS, -1, -1) if len(used) else ():
        fits = np.logical_and.reduceat(_fit_decimals(values, decimals), starts)
        steps[used[fits]] = 10.0**-decimals
    return steps, np.bincount(arms, minlength=readings.arm_count)


def _step(values: FloatArray) -> float:
    """The step of distinct ascending values, 0 where they are finer than any."""
    # A few readings tell in most cases that there is none.
    fits = _fit_decimals(values[:16, None], np.arange(_DECIMALS + 1)).all(axis=0)
    decimals = int(np.argmax(fits)) if fits.any() else None
    while decimals is not None and not _fit_decimals(values, decimals).all():
        decimals = decimals + 1 if decimals < _DECIMALS else None
    if decimals is None:
        return 0.0
    whole = np.rint(values * 10.0**decimals)
    if len(values) < _FEWEST_DISTINCT or np.abs(whole).max() >= 2**53:
        return float(10.0**-decimals)
    return float(np.gcd.reduce(np.diff(whole).astype(np.int64)) / 10.0**decimals)


def _fit_decimals(values: FloatArray, decimals: IntArray | int) -> np.ndarray:
    """Whether values can be written with so many decimals; broadcasts."""
    with np.errstate(over="ignore"):
        scaled = values * 10.0**decimals
    # A few roundings of the conversion, and not one that could be a further decimal.
    rounding = np.minimum(1e-3, 1e-14 * np.abs(scaled) + 1e-9)
    with np.errstate(invalid="ignore"):  # beyond the largest number nothing fits
        fits: np.ndarray = np.abs(scaled - np.rint(scaled)) <= rounding
    return fits


class Resolution(NamedTuple):
    """What resolution leaves uncertain, by arm, on the scale of the analysis, shape (a,).

    ``error`` is the standard uncertainty that no repetition averages out, ``step`` the step
    itself; both 0 where there is none.
    """

    error: FloatArray
    step: FloatArray


def find_resolution(readings: Readings, scales: tuple[Scale, ...], steps: FloatArray) -> Resolution:
    """The uncertainty that the steps of readings leave in the mean of every arm.

    The step over the root of twelve (JCGM 100:2008, Evaluation of measurement data, F.2.2.1),
    of a declared resolution in any case, of a seen one where the readings of the arm are within
    one step, so that nothing averages it out.
    """
    size = readings.arm_count
    low, high = np.full(size, np.inf), np.full(size, -np.inf)
    np.minimum.at(low, readings.arm_of, readings.value)
    np.maximum.at(high, readings.arm_of, readings.value)
    used = np.flatnonzero(np.isfinite(low))
    series: IntArray = used // (len(readings.benches) * len(readings.configurations))
    step = np.zeros(size)
    step[used] = steps[series]
    ratio = np.array([scale == "ratio" for scale in scales], dtype=bool)
    relative = used[ratio[series]]
    step[relative] /= (low[relative] + high[relative]) / 2
    declared = np.array([s.resolution is not None for s in readings.series], dtype=bool)
    stands = np.zeros(size, dtype=bool)
    stands[used] = declared[series] | (high[used] - low[used] <= 1.001 * steps[series])
    return Resolution(np.where(stands, step / np.sqrt(12), 0.0), step)
