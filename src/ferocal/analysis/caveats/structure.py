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
        text = "each side has one visit only"
    else:
        lone = effect.configuration if effect.visits == 1 else effect.baseline
        text = f"there was only one visit to {lone}"
    if not math.isnan(run_sd):
        spread = sized(run_sd, effect.scale, effect.series.unit).lstrip("+")
        text += f"; runs vary by {spread} (SD) within a visit, visits by more"
    floor = effect.noise_floor
    if floor is not None:
        return f"{text}; the interval comes from a noise floor, {floor.source}, {_age(floor.age)}"
    if effect.method is Method.STATED:
        return f"{text}; the interval rests on the noise that the study file states"
    return f"{text}; how much visits vary is not known, so there is no interval"


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
            text = f"the interval is that of a noise of {noise} (SD between visits), which "
            yield Finding(f"{text}somebody states and these readings do not show", [n])


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
        text = "of the readings, {} are only bounds and not in the mean, which leans the other way"
        yield view.on_side(place, name, text, count)


def _not_computed(view: View) -> Iterator[Finding]:
    for (name, workload, metric), reasons in view.context.uncomputed.items():
        for series, place in view.places.items():
            if (series.workload, series.metric) == (workload, metric):
                for reason, count in reasons:
                    values = "a value" if count == 1 else f"{count} values"
                    text = f"{values} could not be computed: {reason}"
                    yield view.on_side(place, name, text)


def _few_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED and effect.rounds < FEW_ROUNDS:
            yield Finding(f"only {effect.rounds} rounds pair", [n])


def _unpaired_rounds(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        rounds = effect.unpaired
        if rounds:
            verbs = ("has", "does") if rounds == 1 else ("have", "do")
            text = f"{counted(rounds, 'round')} {verbs[0]} readings of only one of "
            text += f"{effect.configuration} and {effect.baseline} and {verbs[1]} not count"
            yield Finding(text, [n])


def _not_interleaved(view: View) -> Iterator[Finding]:
    moves = baseline_moves(view)
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED or effect.rounds or _shares_rounds(view, effect):
            continue
        text = "the configurations were not measured in common rounds, so whatever else "
        text += f"changed with time is in this change too; {_time_between(view, effect)}"
        move = moves[view.places[effect.series]]
        if not math.isnan(move):
            moved = sized(move, effect.scale, effect.series.unit)
            text += f"; the baseline itself moved by {moved} from its first visit to its last"
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
            return "when they were measured is not known"
        sides.append(times)
    gap = max(sides[1].min() - sides[0].max(), sides[0].min() - sides[1].max())
    if gap <= 0:
        return "their visits overlap in time"
    if gap < _HOUR:
        return f"{significant(24 * 60 * gap, 2)} minutes lie between them"
    if gap < 1:
        return f"{significant(24 * gap, 2)} hours lie between them"
    return f"{counted(round(gap), 'day')} lie between them"


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
    text = "which runs belong to one visit is not known, so every run counts as a visit and "
    text += "the interval may be too narrow"
    for n, effect in enumerate(view.effects):
        # One reading a side is one visit, whoever knows it.
        single = effect.visits == effect.base_visits == 1
        paired = effect.method is Method.PAIRED or effect.rounds > 0
        if not paired and not single and _has_unknown_visits(view, effect):
            yield Finding(text, [n])


def _has_unknown_visits(view: View, effect: Effect) -> bool:
    """Whether nobody knows the visits of a side of an effect."""
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
            yield Finding(f"{text}{looks.last}; its verdicts are those of the looks", [n])
        elif looks is None and planned is not None and effect.rounds > planned:
            text = f"the study was extended from {planned} to {effect.rounds} rounds after its "
            text += "results could be seen, and stopping when they please finds too many "
            yield Finding(f"{text}differences", [n])


def _stale_noise_floor(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        floor = effect.noise_floor
        if floor is not None and floor.age > STALE_DAYS:
            text = f"the noise floor is {floor.age:.0f} days old, and visits may vary more now"
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
            text = (
                f"{listed(differing)} changed together, so a change belongs to none of them alone"
            )
            yield Finding(text, [n], effect.configuration)


def _difference_scale(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        judged = effect.verdict is not Verdict.NOT_JUDGED
        if judged and effect.scale == "difference" and effect.series.unit_margin is None:
            text = "readings may be zero or negative, so the change is a difference in "
            text += f"{effect.series.unit} and a margin in per cent does not apply"
            yield Finding(text, [n])


def _assumed_times(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.series.assumed_times:
            text = "nothing says how far apart the values of the trace are, so a second is taken "
            yield Finding(f"{text}for it", [n])


def _no_spread(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        flat = effect.method in (Method.PAIRED, Method.VISITS) and effect.shift.sd == 0
        if not flat or effect.verdict is Verdict.NOT_JUDGED:
            continue
        if math.isnan(effect.low):
            text = "every visit shows exactly the same, and no resolution is declared or seen, so "
            yield Finding(f"{text}there is no interval", [n])
        else:
            text = "every visit shows exactly the same, so the interval is that of the resolution"
            yield Finding(text, [n])


KINDS = (
    CaveatKind(
        "one-visit",
        "one visit on a side",
        "measure at least one more visit to each side, better five in rounds",
        _one_visit,
        weight="forbids",
        look="ferocal runs {workload} {metric}",
    ),
    CaveatKind(
        "few-rounds",
        "fewer than 5 rounds pair",
        "measure at least 5",
        _few_rounds,
        look="ferocal plan",
    ),
    CaveatKind(
        "not-computed",
        "values of a derived metric that could not be computed",
        "take the readings that are missing, or mend the formula",
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
        "measure the configurations in interleaved rounds, where a way back exists",
        _not_interleaved,
    ),
    CaveatKind(
        "unknown-visits",
        "nobody knows which runs share a visit",
        "say which readings belong to one visit, or measure in rounds",
        _unknown_visits,
    ),
    CaveatKind(
        "extended",
        "rounds were added after the results could be seen",
        "take the verdict as provisional, or measure a new study with --decide",
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
        "the interval rests on a noise level that somebody states",
        "take three visits to one configuration, which show how much visits vary",
        _as_stated,
        look="ferocal inspect",
    ),
    CaveatKind(
        "bounds-left-out",
        "readings that are only bounds, beside others that are numbers",
        "read the values themselves, or judge by the bounds alone",
        _bounds,
    ),
    CaveatKind(
        "criteria-changed",
        "margin, role, unit or direction were changed after the first reading",
        "judge by what was asked before measuring, or say why the criteria had to change",
        _criteria_changed,
        look="ferocal inspect",
    ),
    CaveatKind(
        "several-factors",
        "several factors differ from the baseline together",
        "see which of them did it, and which configuration would tell them apart",
        _several_factors,
        look="ferocal factors",
    ),
    CaveatKind(
        "difference-scale",
        "readings that may be zero or negative, and a margin in per cent",
        "give the metric a margin in its own unit to show equivalence",
        _difference_scale,
        weight="informs",
        look="ferocal table {workload} {metric}",
    ),
    CaveatKind(
        "assumed-times",
        "times in a trace that has none, and no interval is stated",
        "name the column of the time, or state the `interval` of the source",
        _assumed_times,
        weight="informs",
        look="ferocal inspect",
    ),
    CaveatKind(
        "no-spread",
        "every visit shows exactly the same",
        "check that the metric is measured, and declare its `resolution`",
        _no_spread,
        look="ferocal runs {workload} {metric}",
    ),
)
