"""Readings against what they can be: steps, caps, plausible limits, orders of magnitude."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View
from ferocal.analysis.data.arms import Arms
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.terms.units import quantity_of
from ferocal.terms.wording import counted

# Refresh rates of displays, at which frame rates are capped.
_REFRESH_RATES = (24, 25, 30, 48, 50, 60, 72, 75, 90, 100, 120, 144, 165, 180, 240, 360)
# Readings this near to the best one are pinned; others are clearly below it.
_PINNED, _CLEARLY = 0.001, 0.01
# Runs of fewer frames need hundreds of repetitions for the same precision.
_LEAST_SAMPLES = 10_000
_ODD_FACTOR = 5.0
_OTHER_UNIT_FACTOR = 50.0
_DECIMALS = 6


def _find_implausible(view: View) -> Iterator[Finding]:
    """Arms with readings outside the range that the study file declares."""
    arms = view.arms
    ranges = [series.plausible for series in view.readings.series]
    for arm, s in enumerate(arms.series_of.tolist()):
        ends = ranges[s]
        if ends is None:
            continue
        values = arms.value[arms.rows(arm)]
        outside = values[(values < ends[0]) | (values > ends[1])]
        if len(outside):
            text = f"{len(outside)} of {counted(len(values), 'reading')} outside of {ends[0]:g} "
            text += f"to {ends[1]:g} {arms.series(arm).unit}, such as {outside[0]:.6g}"
            yield view.on_arm(arm, text)


def _find_magnitudes(view: View) -> Iterator[Finding]:
    """Single readings, and whole arms, of another order of magnitude than their fellows."""
    arms = view.arms
    size = np.abs(arms.value)
    median = arms.arms.median(size)
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.abs(np.log(size / median[arms.arms.label]))
    factor[~np.isfinite(factor)] = 0.0
    odd = factor > math.log(_ODD_FACTOR)
    # Where half of the readings lie wide apart, or around zero, that is their nature.
    ratio = np.array([arms.scales[s] == "ratio" for s in arms.series_of.tolist()], dtype=bool)
    calm = ratio & (arms.arms.median(factor) < math.log(1.5)) & (arms.arms.counts > 2)
    for arm in np.unique(arms.arms.label[odd]).tolist():
        if calm[arm]:
            rows = arms.rows(arm)
            worst = float(arms.value[rows][np.argmax(factor[rows])])
            text = f"a reading of {worst:.6g} {arms.series(arm).unit} where the others are near "
            yield view.on_arm(arm, f"{text}{median[arm]:.4g}")
    yield from _odd_arms(view, median)


def _odd_arms(view: View, median: FloatArray) -> Iterator[Finding]:
    """Series in which the arms are so far apart that one may be in another unit."""
    arms = view.arms
    groups = find_segments([arms.series_of])
    # A series may be zero throughout, or in some arms: there is no order of magnitude then.
    with np.errstate(divide="ignore", invalid="ignore"):
        log = np.log(median)
        span = np.maximum.reduceat(log, groups.starts) - np.minimum.reduceat(log, groups.starts)
    for start in groups.starts[np.isfinite(span) & (span > math.log(_OTHER_UNIT_FACTOR))].tolist():
        s = int(arms.series_of[start])
        if arms.scales[s] != "ratio":
            continue
        medians = median[arms.series_of == s]
        unit = arms.series(start).unit
        text = f"one configuration reads near {medians.min():.4g} {unit} and another "
        text += f"near {medians.max():.4g}, as if in another unit"
        yield view.on_series(s, text)


def _find_caps(view: View) -> Iterator[Finding]:
    """Arms whose readings are pinned at their best value, as by vsync or a rate limit.

    An arm is pinned when half of its readings lie within a thousandth of the best one
    while a fifth lie clearly below; when nearly all of them do, and another arm of the
    series that is not better spreads ten times as much; or when nearly all frame rates
    are one refresh rate of displays.
    """
    arms = view.arms
    sign = np.array([1.0 if s.better == "higher" else -1.0 for s in view.readings.series])
    positive = np.minimum.reduceat(arms.value, arms.arms.starts) > 0
    safe = np.where(positive[arms.arms.label], arms.value, 1.0)
    log = np.log(safe) * sign[arms.series_of][arms.arms.label]
    best = np.maximum.reduceat(log, arms.arms.starts)
    below = best[arms.arms.label] - log
    pinned = arms.arms.mean((below <= _PINNED).astype(float))
    clearly = arms.arms.mean((below >= _CLEARLY).astype(float))
    trailing = (pinned >= 0.5) & (pinned * arms.arms.counts >= 4) & (clearly >= 0.2) & positive
    full = (pinned >= 0.9) & (arms.arms.counts >= 8) & positive
    beside = full & _next_to_spread(arms, log) if full.any() else full
    for arm in np.flatnonzero(trailing | full).tolist():
        if trailing[arm] or beside[arm] or _at_refresh_rate(arms, arm):
            top = float(np.exp(best[arm] * sign[arms.series_of[arm]]))
            text = f"{pinned[arm]:.0%} of the readings are pinned at {top:.4g} "
            yield view.on_arm(arm, f"{text}{arms.series(arm).unit}")


def _at_refresh_rate(arms: Arms, arm: int) -> bool:
    quantity = quantity_of(arms.series(arm).unit)
    if quantity is None or not quantity.frames:
        return False
    rate = float(np.median(arms.value[arms.rows(arm)]))
    return any(abs(rate / common - 1) < 0.002 for common in _REFRESH_RATES)


def _next_to_spread(arms: Arms, log: FloatArray) -> np.ndarray:
    """By arm, whether one of its series that is not better varies ten times as much."""
    median = arms.arms.median(log)
    spread = arms.arms.median(np.abs(log - median[arms.arms.label]))
    found = np.zeros(len(median), dtype=bool)
    for _, members in arms.arms_by_series():
        place = np.arange(members.start, members.stop)
        worse = median[place][None, :] < median[place][:, None]
        wide = (arms.arms.counts[place] >= 8) & (spread[place] > 0)
        wider = spread[place][None, :] > 10 * spread[place][:, None]
        found[place] = np.any(worse & wide[None, :] & wider, axis=1)
    return found


def _find_short_captures(view: View) -> Iterator[Finding]:
    """Arms whose readings summarise few samples."""
    arms = view.arms
    if np.isnan(arms.samples).all():
        return
    median = arms.arms.median(arms.samples)
    for arm in np.flatnonzero(median < _LEAST_SAMPLES).tolist():
        yield view.on_arm(arm, f"a reading summarises only {median[arm]:,.0f} samples")


def find_steps(readings: Readings) -> FloatArray:
    """The step of readings by series: declared, or the one of which all are multiples.

    In the unit of the series; 0 where readings are finer than six decimals, or all equal.
    """
    steps = np.zeros(len(readings.series))
    order = np.argsort(readings.series_of, kind="stable")
    groups = find_segments([readings.series_of[order]])
    scaled = readings.value[order] * 10.0**_DECIMALS
    whole = np.rint(scaled)
    exact = np.abs(scaled - whole) <= 1e-9 * np.maximum(1.0, np.abs(scaled))
    coarse = np.logical_and.reduceat(exact & (np.abs(whole) < 2**53), groups.starts)
    from_first = np.abs(whole - whole[groups.starts][groups.label])
    integers = np.where(coarse[groups.label], from_first, 0.0).astype(np.int64)
    common = np.gcd.reduceat(integers, groups.starts)
    steps[readings.series_of[order][groups.starts]] = common / 10.0**_DECIMALS
    declared = [series.resolution for series in readings.series]
    return np.array(
        [
            step if least is None else max(step, least)
            for step, least in zip(steps, declared, strict=True)
        ]
    )


def _find_coarse(view: View) -> Iterator[Finding]:
    """Effects that are not larger than the step of their readings."""
    readings = view.readings
    steps = find_steps(readings)
    count = np.bincount(readings.series_of, minlength=len(readings.series))
    total = np.bincount(readings.series_of, readings.value, len(readings.series))
    level = np.abs(total / np.maximum(1, count))
    known = {s: (steps[n], level[n]) for n, s in enumerate(readings.series) if steps[n] > 0}
    for n, effect in enumerate(view.effects):
        step, centre = known.get(effect.series, (0.0, 0.0))
        size = abs(effect.change) * (centre if effect.scale == "ratio" else 1.0)
        if 0 < size <= step:
            unit = effect.series.unit
            text = f"readings come in steps of {step:g} {unit}, and the change is {size:.2g} {unit}"
            yield Finding(text, [n])


KINDS = (
    CaveatKind(
        "coarse",
        "the change is not larger than the step of the readings",
        "read it more finely, or lengthen the workload until the change is larger",
        _find_coarse,
        statistical=True,
    ),
    CaveatKind(
        "capped",
        "readings pinned at their best value",
        "lift the cap (vsync, a frame or rate limit): above it no change can be seen",
        _find_caps,
        statistical=True,
    ),
    CaveatKind(
        "implausible",
        "readings outside of `plausible`",
        "check how it was read, and exclude what cannot be true",
        _find_implausible,
    ),
    CaveatKind(
        "magnitude",
        "readings of another order of magnitude than their fellows",
        "look for a missing digit or another unit, and exclude or correct the reading",
        _find_magnitudes,
        statistical=True,
    ),
    CaveatKind(
        "short-capture",
        "a reading summarises fewer than 10,000 samples",
        "capture longer, at least 10,000 frames: rare hitches decide these figures",
        _find_short_captures,
    ),
)
