"""Readings against what they can be: steps, caps, plausible limits, orders of magnitude."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, finding, of_arms
from ferocal.analysis.data.arms import Arms
from ferocal.analysis.data.resolution import find_arm_steps, find_resolution
from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.analysis.data.series import Series, factor_of
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.bounds import LONGEST_MEDIAN, SHORTEST_MEDIAN
from ferocal.terms.units import quantity_of, unit_factors

# Refresh rates of displays, at which frame rates are capped.
_REFRESH_RATES = (24, 25, 30, 48, 50, 60, 72, 75, 90, 100, 120, 144, 165, 180, 240, 360)
# The part of a trace of frames that half of them reach.
_MEDIAN_FRAME = "/median"
# Readings this near to the best one are pinned; others are clearly below it.
_PINNED, _CLEARLY = 0.001, 0.01
_CLEAR_STEPS = 2.5
# Runs of fewer frames need hundreds of repetitions for the same precision.
_LEAST_SAMPLES = 10_000
_ODD_FACTOR = 5.0
_ODD_STEPS = 8.0
# Among fewer readings it is unclear which one is odd.
_FEWEST_FELLOWS = 4
_NEAR_POWER = 0.15
# Single readings so far apart (natural logarithm) are doubtful, for rounding allows for less.
_TENFOLD = math.log(9.5)
# Arms this far apart may be in two units, if they are about as far apart as two units are.
_OTHER_UNIT_FACTOR = 50.0
_NEAR_UNIT = math.log(1.3)
# The step of fewer readings is chance; steps this many times as coarse are another clock's.
_FEWEST_STEPS = 5
_COARSER = 5.0
# A step of a smaller share of the margin does not matter.
_STEP_SHARE = 0.1
# A change of a smaller share of a step is none.
_NIL = 0.02


@of_arms
def _find_implausible(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms with readings outside the range that the study file declares."""
    ranges = [series.plausible for series in view.readings.series]
    for arm, s in enumerate(arms.series_of.tolist()):
        ends = ranges[s]
        if ends is None:
            continue
        values = arms.value[arms.rows(arm)]
        outside = values[(values < ends[0]) | (values > ends[1])]
        if len(outside):
            yield view.on_arm(
                arms, arm, outside=len(outside), readings=len(values), low=ends[0], high=ends[1],
                first=float(outside[0]), unit=arms.series(arm).unit,
            )  # fmt: skip


@of_arms
def _odd_frames(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms of which half of the frames last longer, or shorter, than anything that is shown."""
    for arm, s in enumerate(arms.series_of.tolist()):
        series = view.readings.series[s]
        if not (series.of_frames and series.metric.endswith(_MEDIAN_FRAME)):
            continue
        median = float(np.median(arms.value[arms.rows(arm)]))
        if SHORTEST_MEDIAN <= median <= LONGEST_MEDIAN:
            continue
        trace = series.metric.removesuffix(_MEDIAN_FRAME)
        name = arms.name(arm)
        members = [
            n
            for n, e in enumerate(view.effects)
            if e.series.workload == series.workload
            and e.series.metric.startswith(f"{trace}/")
            and name in (e.configuration, e.baseline)
        ]
        yield finding(members, name, median=median)


@of_arms
def _find_magnitudes(view: View, arms: Arms) -> Iterator[Finding]:
    """Single readings, and whole arms, of another order of magnitude than their fellows."""
    size = np.abs(arms.value)
    median = arms.arms.median(size)
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.abs(np.log(size / median[arms.arms.label]))
    factor[~np.isfinite(factor)] = 0.0
    # A few steps are a large factor where readings are only a few steps themselves.
    few = (
        np.abs(size - median[arms.arms.label])
        <= _ODD_STEPS * view.steps[arms.series_of[arms.arms.label]]
    )
    odd = (factor > math.log(_ODD_FACTOR)) & ~few
    # Where half of the readings lie wide apart, or around zero, that is their nature.
    ratio = np.array([arms.scales[s] == "ratio" for s in arms.series_of.tolist()], dtype=bool)
    calm = ratio & (arms.arms.median(factor) < math.log(1.5)) & (arms.arms.counts > 2)
    for arm in np.unique(arms.arms.label[odd]).tolist():
        if calm[arm]:
            rows = arms.rows(arm)
            worst = float(arms.value[rows][np.argmax(factor[rows])])
            yield _odd(view, arms, arm, worst, float(median[arm]))
    yield from _odd_among_arms(view, arms, ratio)
    yield from _far_apart(view)


def _odd(view: View, arms: Arms, arm: int, worst: float, others: float) -> Finding:
    return view.on_arm(arms, arm, odd=worst, others=others, unit=arms.series(arm).unit)


def _odd_among_arms(view: View, arms: Arms, ratio: np.ndarray) -> Iterator[Finding]:
    """Readings of arms with one or two, of another order of magnitude than the whole series.

    A single reading is reported only if it is near a power of ten of its fellows, as with a digit
    too few; of two, if the other one is like its fellows.
    """
    groups = find_segments([arms.series_of])
    whole = find_segments([arms.series_of[arms.arms.label]])
    with np.errstate(divide="ignore", invalid="ignore"):
        far = np.abs(np.log(arms.value / whole.median(arms.value)[whole.label]))
    odd_series = set(whole.label[far > math.log(_ODD_FACTOR)].tolist())
    places = zip(groups.starts.tolist(), groups.counts.tolist(), strict=True)
    for number, (first, count) in enumerate(places):
        if number not in odd_series:
            continue
        begin, stop = arms.rows(first).start, arms.rows(first + count - 1).stop
        value = arms.value[begin:stop]
        if not ratio[first] or len(value) < _FEWEST_FELLOWS:
            continue
        middle = float(np.median(value))
        factor = np.log(value / middle)
        if np.median(np.abs(factor)) > math.log(1.5):
            continue
        for arm in range(first, first + count):
            rows = arms.rows(arm)
            odd = np.abs(factor[rows.start - begin : rows.stop - begin]) > math.log(_ODD_FACTOR)
            if len(odd) > 2 or odd.sum() != 1:
                continue
            worst = float(arms.value[rows][np.argmax(odd)])
            digits = abs(math.log10(worst / middle))
            if len(odd) == 2 or abs(digits - round(digits)) < _NEAR_POWER:
                yield _odd(view, arms, arm, worst, middle)


def _far_apart(view: View) -> Iterator[Finding]:
    """Two single readings that are ten times apart, which a digit too few would explain."""
    for n, effect in enumerate(view.effects):
        alone = effect.runs - effect.base_runs == effect.base_runs == 1
        known = effect.scale == "ratio" and effect.bound is None and not effect.series.metered
        if alone and known and abs(effect.shift.mean) > _TENFOLD:
            yield finding([n], factor=factor_of(abs(effect.shift.mean)))


@of_arms
def _find_doubtful_units(view: View, arms: Arms) -> Iterator[Finding]:
    """Series in which the arms are about as far apart as two units are."""
    median = arms.arms.median(np.abs(arms.value))
    groups = find_segments([arms.series_of])
    # A series may be zero throughout, or in some arms: there is no order of magnitude then.
    with np.errstate(divide="ignore", invalid="ignore"):
        log = np.log(median)
        span = np.maximum.reduceat(log, groups.starts) - np.minimum.reduceat(log, groups.starts)
    apart = np.isfinite(span) & (span > math.log(_OTHER_UNIT_FACTOR))
    for start, factor in zip(groups.starts[apart].tolist(), span[apart].tolist(), strict=True):
        s = int(arms.series_of[start])
        if arms.scales[s] != "ratio" or not _may_be_units(arms.series(start), factor):
            continue
        medians = median[arms.series_of == s]
        low, high = float(medians.min()), float(medians.max())
        yield view.on_series(s, low=low, high=high, unit=arms.series(start).unit)


def _may_be_units(series: Series, factor: float) -> bool:
    """Whether arms that are so far apart, as a natural logarithm, may be in two units."""
    near = (abs(factor - math.log(f)) < _NEAR_UNIT for f in unit_factors(series.unit))
    return not series.metered and any(near)


@of_arms
def _find_caps(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms whose readings are pinned at their best value, as by vsync or a rate limit.

    An arm is pinned when half of its readings lie within a thousandth of the best one
    while a fifth lie clearly below; when nearly all of them do, and another arm of the
    series that is not better spreads ten times as much; or when nearly all frame rates
    are one refresh rate of displays.
    """
    sign = np.array([1.0 if s.better == "higher" else -1.0 for s in view.readings.series])
    positive = np.minimum.reduceat(arms.value, arms.arms.starts) > 0
    safe = np.where(positive[arms.arms.label], arms.value, 1.0)
    log = np.log(safe) * sign[arms.series_of][arms.arms.label]
    best = np.maximum.reduceat(log, arms.arms.starts)
    below = best[arms.arms.label] - log
    pinned = arms.arms.mean((below <= _PINNED).astype(float))
    # Rounded readings are equal to their best by chance, and a step or two below it.
    steps = view.steps[arms.series_of] / np.maximum(arms.arms.median(safe), 1e-300)
    clear = np.maximum(_CLEARLY, _CLEAR_STEPS * steps)
    clearly = arms.arms.mean((below >= clear[arms.arms.label]).astype(float))
    trailing = (pinned >= 0.5) & (pinned * arms.arms.counts >= 4) & (clearly >= 0.2) & positive
    full = (pinned >= 0.9) & (arms.arms.counts >= 8) & positive
    beside = full & _next_to_spread(arms, log, steps) if full.any() else full
    for arm in np.flatnonzero(trailing | full).tolist():
        quantity = quantity_of(arms.series(arm).unit)
        # A program that always takes the same memory is not held back by anything.
        if quantity is not None and quantity.kept:
            continue
        if trailing[arm] or beside[arm] or _at_refresh_rate(arms, arm):
            top = float(np.exp(best[arm] * sign[arms.series_of[arm]]))
            share, unit = float(pinned[arm]), arms.series(arm).unit
            yield view.on_arm(arms, arm, share=share, best=top, unit=unit)


def _at_refresh_rate(arms: Arms, arm: int) -> bool:
    quantity = quantity_of(arms.series(arm).unit)
    if quantity is None or not quantity.frames:
        return False
    rate = float(np.median(arms.value[arms.rows(arm)]))
    return any(abs(rate / common - 1) < 0.002 for common in _REFRESH_RATES)


def _next_to_spread(arms: Arms, log: FloatArray, steps: FloatArray) -> np.ndarray:
    """By arm, whether one of its series that is not better varies ten times as much."""
    median = arms.arms.median(log)
    spread = np.maximum(arms.arms.median(np.abs(log - median[arms.arms.label])), steps / 2)
    found = np.zeros(len(median), dtype=bool)
    for _, members in arms.arms_by_series():
        place = np.arange(members.start, members.stop)
        worse = median[place][None, :] < median[place][:, None]
        wide = (arms.arms.counts[place] >= 8) & (spread[place] > 0)
        wider = spread[place][None, :] > 10 * spread[place][:, None]
        found[place] = np.any(worse & wide[None, :] & wider, axis=1)
    return found


@of_arms
def _find_short_captures(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms whose readings summarise few samples."""
    if np.isnan(arms.samples).all():
        return
    median = arms.arms.median(arms.samples)
    for arm in np.flatnonzero(median < _LEAST_SAMPLES).tolist():
        # A score of five values is no capture of five frames, whatever its unit.
        if arms.series(arm).of_frames:
            yield view.on_arm(arms, arm, float(median[arm]))


def _find_coarse(view: View) -> Iterator[Finding]:
    """Effects that are not larger than the step of their readings."""
    base = _baseline_levels(view)
    # Readings that spread over several steps average them out.
    stands = find_resolution(view.readings, view.scales, view.steps).error > 0
    for n, effect in enumerate(view.effects):
        place = view.places[effect.series]
        step = float(view.steps[place])
        size = abs(effect.change) * (base[place] if effect.scale == "ratio" else 1.0)
        if effect.bound is not None or not step or not stands[_arms_of(view, effect, place)].any():
            continue
        # What is shown to be equivalent was read finely enough for that.
        if effect.verdict is not Verdict.EQUIVALENT and _NIL * step < size <= 1.001 * step:
            yield finding([n], change=float(size), step=step, unit=effect.series.unit)


def _find_steps_differ(view: View) -> Iterator[Finding]:
    """Effects between readings of which one side comes in far coarser steps, as of another clock.

    The last decimal place that is used tells, since coarser steps are common by chance.
    """
    steps, counts = find_arm_steps(view.readings)
    if not steps.any():
        return
    base = _baseline_levels(view)
    for n, effect in enumerate(view.effects):
        place = view.places[effect.series]
        arms = _arms_of(view, effect, place)
        sides = sorted(
            zip(steps[arms].tolist(), (effect.configuration, effect.baseline), strict=True)
        )
        (fine, _), (coarse, side) = sides
        least = _STEP_SHARE * effect.series.margin * base[place]
        if counts[arms].min() < _FEWEST_STEPS or coarse < _COARSER * fine or not coarse > least:
            continue
        declared = (effect.series.resolution or 0.0) >= coarse
        yield finding(
            [n], side, coarse=coarse, fine=fine, declared=declared, unit=effect.series.unit
        )


def _arms_of(view: View, effect: Effect, series: int) -> list[int]:
    """The numbers of the two arms of an effect."""
    readings = view.readings
    bench = readings.benches.index(effect.bench)
    return [
        Arm(series, bench, readings.configurations.index(name)).code(readings)
        for name in (effect.configuration, effect.baseline)
    ]


def _baseline_levels(view: View) -> FloatArray:
    """The level of the baseline in the unit, by series; NaN where it was not read."""
    summaries, base = view.summaries, view.readings.configurations.index(view.baseline)
    rows = summaries.configuration_of == base
    size = len(view.readings.series)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.bincount(summaries.series_of[rows], summaries.centre[rows], size) / np.bincount(
            summaries.series_of[rows], minlength=size
        )
    ratio = np.array([scale == "ratio" for scale in view.scales], dtype=bool)
    return np.where(ratio, np.exp(mean, where=ratio, out=np.zeros(size)), np.abs(mean))


KINDS = (
    CaveatKind("coarse", _find_coarse, statistical=True),
    CaveatKind("steps-differ", _find_steps_differ, weight="informs"),
    CaveatKind("capped", _find_caps, statistical=True, weight="forbids"),
    CaveatKind("implausible", _find_implausible, weight="forbids"),
    CaveatKind("odd-frames", _odd_frames, weight="forbids"),
    CaveatKind("magnitude", _find_magnitudes, statistical=True, weight="forbids"),
    CaveatKind("unit-doubtful", _find_doubtful_units, weight="forbids", bars=True),
    CaveatKind("short-capture", _find_short_captures),
)
