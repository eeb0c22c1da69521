"""Caveats on the plan and what became of it: visits, rounds, scales, criteria."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, SizedShift, View, finding
from ferocal.analysis.data.readings import NO_ROUND, round_number
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.noise_floors import STALE_DAYS
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.inference.weights import Arm

FEW_ROUNDS = 5


def _one_visit(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method in (Method.FLOOR, Method.STATED, Method.NONE):
            run_sd, floor = float(view.run_sd[view.places[effect.series]]), effect.noise_floor
            lone = effect.configuration if effect.visits == 1 else effect.baseline
            size = SizedShift(run_sd, effect.scale, effect.series.unit)
            yield finding(
                [n],
                lone=None if effect.visits == effect.base_visits == 1 else lone,
                run_sd=None if math.isnan(run_sd) else size,
                floor=None if floor is None else (floor.source, _known(floor.age)),
                stated=effect.method is Method.STATED,
            )


def _known(value: float) -> float | None:
    """A number, None where it is unknown."""
    return None if math.isnan(value) else value


def _as_stated(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.STATED:
            series = effect.series
            in_unit = series.unit_noise is not None
            noise = series.unit_noise if in_unit else series.noise or 0.0
            yield finding([n], noise=noise, unit=series.unit if in_unit else None)


def _bounds(view: View) -> Iterator[Finding]:
    """Bounds beside numbers, which enter no mean: it leans away from them."""
    arms, counts = np.unique(view.bounds.arm_of, return_counts=True)
    numbers = set(np.unique(view.readings.arm_of).tolist())
    size = len(view.readings.configurations)
    for arm, count in zip(arms.tolist(), counts.tolist(), strict=True):
        if arm not in numbers:
            continue
        name = view.readings.configurations[arm % size]
        place = arm // size // len(view.readings.benches)
        yield view.on_side(place, name, count)


def _not_computed(view: View) -> Iterator[Finding]:
    for (name, workload, metric), reasons in view.context.uncomputed.items():
        for series, place in view.places.items():
            if (series.workload, series.metric) == (workload, metric):
                for reason, count in reasons:
                    yield view.on_side(place, name, count=count, reason=reason)


def _few_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED and effect.rounds < FEW_ROUNDS:
            yield finding([n], rounds=effect.rounds)


def _unpaired_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        # Where as many as planned pair, those besides are of another comparison.
        lacking = effect.rounds < view.setting.planned_rounds.get(effect.bench, effect.rounds + 1)
        if effect.unpaired and lacking:
            yield finding(
                [n], rounds=effect.unpaired, here=effect.configuration, there=effect.baseline
            )


def _not_interleaved(view: View) -> Iterator[Finding]:
    moves = baseline_moves(view)
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED or effect.rounds or _shares_rounds(view, effect):
            continue
        move = moves[view.places[effect.series]]
        size = SizedShift(move, effect.scale, effect.series.unit)
        yield finding(
            [n],
            days_apart=_days_between(view, effect),
            move=None if math.isnan(move) else size,
        )


def _shares_rounds(view: View, effect: Effect) -> bool:
    """Whether both sides of an effect that is known as a bound were read in the same rounds."""
    if effect.method is not Method.BOUND:
        return False
    series = view.places[effect.series]
    rounds: list[set[int]] = []
    for name in (effect.configuration, effect.baseline):
        code = view.readings.configurations.index(name)
        seen: set[int] = set()
        for r in (view.readings, view.bounds):
            rows = (r.series_of == series) & (r.configuration_of == code)
            seen.update(r.round_of[rows].tolist())
        rounds.append(seen - {NO_ROUND})
    return rounds[0] == rounds[1] != set()


def _days_between(view: View, effect: Effect) -> float | None:
    """How long lies between the sides of an effect: 0 if they overlap, None if unknown."""
    everything = (view.readings, view.bounds)
    place = view.places[effect.series]
    sides = []
    for name in (effect.baseline, effect.configuration):
        code = view.readings.configurations.index(name)
        times = np.concatenate(
            [r.time[(r.series_of == place) & (r.configuration_of == code)] for r in everything]
        )
        if not len(times) or np.isnan(times).any():
            return None
        sides.append(times)
    gap = max(sides[1].min() - sides[0].max(), sides[0].min() - sides[1].max())
    return max(0.0, float(gap))


def baseline_moves(view: View) -> list[float]:
    """By how much the baseline moved while others were visited, by series; else NaN."""
    moves = [math.nan] * len(view.readings.series)
    if view.setting.interleaved:
        return moves
    summaries = view.summaries
    base = view.readings.configurations.index(view.baseline)
    for s in range(len(moves)):
        rows = np.flatnonzero(summaries.series_of == s)
        order = rows[np.argsort(summaries.visit_of[rows], kind="stable")]
        home = np.flatnonzero(summaries.configuration_of[order] == base)
        if len(home) and home[-1] - home[0] >= len(home):
            first, last = order[home[0]], order[home[-1]]
            moves[s] = float(summaries.centre[last] - summaries.centre[first])
    return moves


def _unknown_visits(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        # One reading a side is one visit, whoever knows it.
        single = effect.visits == effect.base_visits == 1
        paired = effect.method is Method.PAIRED or effect.rounds > 0
        if not paired and not single and _has_unknown_visits(view, effect):
            yield finding([n])


def _has_unknown_visits(view: View, effect: Effect) -> bool:
    """Whether the visits of a side of an effect are unknown."""
    readings = view.readings
    bench, series = readings.benches.index(effect.bench), view.places[effect.series]
    sides = (readings.configurations.index(c) for c in (effect.configuration, effect.baseline))
    return any(Arm(series, bench, c).code(readings) in readings.unknown_arms for c in sides)


def _extended(view: View) -> Iterator[Finding]:
    looks, rounds = view.setting.looks, int(round_number(view.readings.round_of).max(initial=0))
    for n, effect in enumerate(view.effects):
        planned = view.setting.planned_rounds.get(effect.bench)
        if looks is not None and rounds > looks.last:
            yield finding([n], rounds=rounds, planned=looks.last, looks=True)
        elif looks is None and planned is not None and effect.rounds > planned:
            yield finding([n], rounds=effect.rounds, planned=planned, looks=False)


def _stale_noise_floor(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        floor = effect.noise_floor
        if floor is not None and floor.age > STALE_DAYS:
            yield finding([n], days=round(floor.age))


def _criteria_changed(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        place = (effect.series.workload, effect.series.metric)
        for change in view.context.criteria_changes.get(place, ()):
            yield finding([n], change=change)


def _several_factors(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        differing = tuple(view.setting.differing.get(effect.configuration, ()))
        if len(differing) > 1:
            yield finding([n], effect.configuration, factors=differing)


def _difference_scale(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        judged = effect.verdict is not Verdict.NOT_JUDGED
        if judged and effect.scale == "difference" and effect.series.unit_margin is None:
            yield finding([n], unit=effect.series.unit)


def _assumed_times(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.series.assumed_times:
            yield finding([n])


def _no_spread(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        flat = effect.method in (Method.PAIRED, Method.VISITS) and effect.shift.sd == 0
        if not flat or effect.verdict is Verdict.NOT_JUDGED:
            continue
        yield finding([n], resolution_known=not math.isnan(effect.low))


KINDS = (
    CaveatKind("one-visit", _one_visit, weight="forbids"),
    CaveatKind("few-rounds", _few_rounds),
    CaveatKind("not-computed", _not_computed),
    CaveatKind("unpaired-rounds", _unpaired_rounds),
    CaveatKind("not-interleaved", _not_interleaved),
    CaveatKind("unknown-visits", _unknown_visits, leads=True),
    CaveatKind("extended", _extended),
    CaveatKind("stale-noise-floor", _stale_noise_floor),
    CaveatKind("as-stated", _as_stated),
    CaveatKind("bounds-left-out", _bounds),
    CaveatKind("criteria-changed", _criteria_changed),
    CaveatKind("several-factors", _several_factors),
    CaveatKind("difference-scale", _difference_scale, weight="informs"),
    CaveatKind("assumed-times", _assumed_times, weight="informs"),
    CaveatKind("no-spread", _no_spread),
)
