"""Caveats on the plan and what became of it: visits, rounds, scales, criteria."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, percentage, sized
from ferocal.analysis.data.readings import NO_ROUND, round_number
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.noise_floors import STALE_DAYS
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted, listed

FEW_ROUNDS = 5

# In days, as times are.
_HOUR = 1 / 24


def _one_visit(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method in (Method.FLOOR, Method.STATED, Method.NONE):
            yield Finding(_lone_visit(effect, float(view.run_sd[view.places[effect.series]])), [n])


def _lone_visit(effect: Effect, run_sd: float) -> str:
    """What one visit shows, and what it does not."""
    if effect.visits == effect.base_visits == 1:
        text = "one visit per side"
    else:
        lone = effect.configuration if effect.visits == 1 else effect.baseline
        text = f"only one visit to {lone}"
    if not math.isnan(run_sd):
        spread = sized(run_sd, effect.scale, effect.series.unit).lstrip("+")
        text += f"; runs vary by {spread} (SD) within a visit, visits by more"
    floor = effect.noise_floor
    if floor is not None:
        return f"{text}; the interval uses a noise floor ({floor.source}, {_age(floor.age)})"
    if effect.method is Method.STATED:
        return f"{text}; the interval uses the noise stated in the study file"
    return f"{text}; no interval, since the noise between visits is unknown"


def _age(days: float) -> str:
    if math.isnan(days):
        return "of unknown age"
    return "less than a day old" if days < 1 else f"{days:.0f} days old"


def _as_stated(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.STATED:
            series = effect.series
            noise = (
                f"{significant(series.unit_noise, 3)} {series.unit}"
                if series.unit_noise is not None
                else percentage(series.noise or 0.0).lstrip("+")
            )
            text = f"the interval assumes a stated noise of {noise} (SD between visits); "
            yield Finding(f"{text}these readings cannot confirm it", [n])


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
        text = "{} readings are bounds (such as >3600) and left out of averages, which biases them"
        yield view.on_side(place, name, text, count)


def _not_computed(view: View) -> Iterator[Finding]:
    for (name, workload, metric), reasons in view.context.uncomputed.items():
        for series, place in view.places.items():
            if (series.workload, series.metric) == (workload, metric):
                for reason, count in reasons:
                    values = "1 value" if count == 1 else f"{count} values"
                    text = f"{values} could not be computed: {reason}"
                    yield view.on_side(place, name, text)


def _few_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED and effect.rounds < FEW_ROUNDS:
            yield Finding(f"only {effect.rounds} paired rounds", [n])


def _unpaired_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        rounds = effect.unpaired
        if rounds:
            lacks = "lacks" if rounds == 1 else "lack"
            text = f"{counted(rounds, 'round')} {lacks} readings of {effect.configuration} or "
            text += f"{effect.baseline} and are not used"
            yield Finding(text, [n])


def _not_interleaved(view: View) -> Iterator[Finding]:
    moves = baseline_moves(view)
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED or effect.rounds or _shares_rounds(view, effect):
            continue
        text = "measured at different times, so anything else that changed meanwhile is part of "
        text += f"this difference; {_time_between(view, effect)}"
        move = moves[view.places[effect.series]]
        if not math.isnan(move):
            moved = sized(move, effect.scale, effect.series.unit)
            text += f"; the baseline moved by {moved} from its first to its last visit"
        yield Finding(text, [n])


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


def _time_between(view: View, effect: Effect) -> str:
    """How long lies between the sides of an effect, as far as that is known."""
    everything = (view.readings, view.bounds)
    place = view.places[effect.series]
    sides = []
    for name in (effect.baseline, effect.configuration):
        code = view.readings.configurations.index(name)
        times = np.concatenate(
            [r.time[(r.series_of == place) & (r.configuration_of == code)] for r in everything]
        )
        if not len(times) or np.isnan(times).any():
            return "their times are unknown"
        sides.append(times)
    gap = max(sides[1].min() - sides[0].max(), sides[0].min() - sides[1].max())
    if gap <= 0:
        return "their visits overlap in time"
    if gap < _HOUR:
        return f"{significant(24 * 60 * gap, 2)} min apart"
    if gap < 1:
        return f"{significant(24 * gap, 2)} h apart"
    return f"{counted(round(gap), 'day')} apart"


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
    text = "visits are unknown, so every run counts as a visit and the interval may be too "
    text += "narrow"
    for n, effect in enumerate(view.effects):
        # One reading a side is one visit, whoever knows it.
        single = effect.visits == effect.base_visits == 1
        paired = effect.method is Method.PAIRED or effect.rounds > 0
        if not paired and not single and _has_unknown_visits(view, effect):
            yield Finding(text, [n])


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
            text = f"the study was extended to {rounds} rounds after the look at round "
            yield Finding(f"{text}{looks.last}; verdicts are those of the looks", [n])
        elif looks is None and planned is not None and effect.rounds > planned:
            text = f"the study was extended from {planned} to {effect.rounds} rounds after "
            yield Finding(f"{text}results were visible, which inflates false positives", [n])


def _stale_noise_floor(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        floor = effect.noise_floor
        if floor is not None and floor.age > STALE_DAYS:
            text = f"the noise floor is {floor.age:.0f} days old; the noise may have changed"
            yield Finding(text, [n])


def _criteria_changed(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        place = (effect.series.workload, effect.series.metric)
        for text in view.context.criteria_changes.get(place, ()):
            yield Finding(text, [n])


def _several_factors(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        differing = list(view.setting.differing.get(effect.configuration, ()))
        if len(differing) > 1:
            all_of, any_of = (
                ("both", "either") if len(differing) == 2 else ("all", "any one of them")
            )
            text = f"{listed(differing)} {all_of} differ from the baseline; the change cannot be "
            text += f"credited to {any_of}"
            yield Finding(text, [n], effect.configuration)


def _difference_scale(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        judged = effect.verdict is not Verdict.NOT_JUDGED
        if judged and effect.scale == "difference" and effect.series.unit_margin is None:
            text = "readings may be zero or negative, so the change is a difference in "
            text += f"{effect.series.unit} and a percentage margin does not apply"
            yield Finding(text, [n])


def _assumed_times(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.series.assumed_times:
            text = "the trace has no times and no stated interval; one second is assumed"
            yield Finding(text, [n])


def _no_spread(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        flat = effect.method in (Method.PAIRED, Method.VISITS) and effect.shift.sd == 0
        if not flat or effect.verdict is Verdict.NOT_JUDGED:
            continue
        if math.isnan(effect.low):
            text = "every visit has the same value and the resolution is unknown: no interval"
            yield Finding(text, [n])
        else:
            text = "every visit has the same value, so the interval is that of the resolution"
            yield Finding(text, [n])


KINDS = (
    CaveatKind(
        "one-visit",
        "one visit on a side",
        "add at least one visit per side, better five in rounds",
        _one_visit,
        weight="forbids",
        look="ferocal runs {workload} {metric}",
    ),
    CaveatKind(
        "few-rounds",
        "fewer than 5 paired rounds",
        "measure at least 5",
        _few_rounds,
        look="ferocal plan",
    ),
    CaveatKind(
        "not-computed",
        "values of a derived metric that could not be computed",
        "take the missing readings, or correct the formula",
        _not_computed,
        look="ferocal runs {workload}",
    ),
    CaveatKind(
        "unpaired-rounds",
        "rounds in which one side is missing",
        "take the missing runs with `ferocal measure --retry`",
        _unpaired_rounds,
    ),
    CaveatKind(
        "not-interleaved",
        "no common rounds",
        "measure in interleaved rounds where a way back exists",
        _not_interleaved,
    ),
    CaveatKind(
        "unknown-visits",
        "it is unknown which runs share a visit",
        "state which readings belong to one visit, or measure in rounds",
        _unknown_visits,
    ),
    CaveatKind(
        "extended",
        "rounds were added after results were visible",
        "treat the verdict as provisional, or measure a new study with --decide",
        _extended,
        look="ferocal inspect",
    ),
    CaveatKind(
        "stale-noise-floor",
        "the noise floor is older than 30 days",
        "measure a new noise floor: a control arm of ten rounds on this bench",
        _stale_noise_floor,
        look="ferocal noise-floor",
    ),
    CaveatKind(
        "as-stated",
        "the interval assumes a stated noise level",
        "visit one configuration three times to measure the noise",
        _as_stated,
        look="ferocal inspect",
    ),
    CaveatKind(
        "bounds-left-out",
        "readings that are bounds, beside numbers",
        "obtain the values themselves, or judge by the bounds alone",
        _bounds,
    ),
    CaveatKind(
        "criteria-changed",
        "margin, role, unit or direction was changed after the first reading",
        "judge by the original criteria, or explain why they changed",
        _criteria_changed,
        look="ferocal inspect",
    ),
    CaveatKind(
        "several-factors",
        "several factors differ from the baseline together",
        "see which factor carries the change, and which configuration would separate them",
        _several_factors,
        look="ferocal factors",
    ),
    CaveatKind(
        "difference-scale",
        "readings that may be zero or negative, and a percentage margin",
        "give the metric a margin in its unit to show equivalence",
        _difference_scale,
        weight="informs",
        look="ferocal table {workload} {metric}",
    ),
    CaveatKind(
        "assumed-times",
        "a trace without times or a stated interval",
        "name the column with the times, or state the `interval` of the source",
        _assumed_times,
        weight="informs",
        look="ferocal inspect",
    ),
    CaveatKind(
        "no-spread",
        "every visit has the same value",
        "check that the metric is really measured, and declare its `resolution`",
        _no_spread,
        look="ferocal runs {workload} {metric}",
    ),
)
