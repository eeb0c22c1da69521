"""Caveats on the plan and what became of it: visits, rounds, scales, criteria."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, sized
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.noise_floors import STALE_DAYS
from ferocal.terms.wording import counted, listed

FEW_ROUNDS = 5


def _one_visit(view: View) -> Iterator[Finding]:
    series = {s: n for n, s in enumerate(view.readings.series)}
    for n, effect in enumerate(view.effects):
        if effect.method in (Method.FLOOR, Method.NONE):
            yield Finding(_lone_visit(effect, float(view.run_sd[series[effect.series]])), [n])


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
        age = "less than a day" if floor.age < 1 else f"{floor.age:.0f} days"
        return f"{text}; the interval comes from a noise floor, {floor.source}, {age} old"
    return f"{text}; how much visits vary is not known, so there is no interval"


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
    moves = dict(zip(view.readings.series, baseline_moves(view), strict=True))
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED or effect.rounds:
            continue
        text = "the configurations were not measured in common rounds, so whatever else "
        text += "changed with time is in this change too"
        if not math.isnan(moves[effect.series]):
            moved = sized(moves[effect.series], effect.scale, effect.series.unit)
            text += f"; the baseline itself moved by {moved} from its first visit to its last"
        yield Finding(text, [n])


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
        paired = effect.method is Method.PAIRED or effect.rounds > 0
        if not paired and not view.readings.visits_known:
            yield Finding(text, [n])


def _extended(view: View) -> Iterator[Finding]:
    looks, rounds = view.setting.looks, int(view.readings.round_of.max(initial=0))
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
            text = f"several factors differ from {effect.baseline} together, {listed(differing)}, "
            yield Finding(f"{text}so the change belongs to none of them alone", [n])


def _difference_scale(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.scale == "difference" and effect.series.unit_margin is None:
            text = "readings may be zero or negative, so the change is a difference in "
            text += f"{effect.series.unit} and a margin in per cent does not apply"
            yield Finding(text, [n])


def _no_spread(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        if effect.method is Method.PAIRED and effect.shift.sd == 0:
            yield Finding("every round shows exactly the same difference", [n])


KINDS = (
    CaveatKind(
        "one-visit", "one visit on a side",
        "measure at least one more visit to each side, better five in rounds", _one_visit,
    ),
    CaveatKind("few-rounds", "fewer than 5 rounds pair", "measure at least 5", _few_rounds),
    CaveatKind(
        "unpaired-rounds", "rounds in which one side is missing",
        "take the missing runs with `ferocal measure --retry`", _unpaired_rounds,
    ),
    CaveatKind(
        "not-interleaved", "no common rounds",
        "measure the configurations in interleaved rounds, where a way back exists",
        _not_interleaved,
    ),
    CaveatKind(
        "unknown-visits", "nobody knows which runs share a visit",
        "say which readings belong to one visit, or measure in rounds", _unknown_visits,
    ),
    CaveatKind(
        "extended", "rounds were added after the results could be seen",
        "take the verdict as provisional, or measure a new study with --decide", _extended,
    ),
    CaveatKind(
        "stale-noise-floor", "the noise floor is older than 30 days",
        "measure a new noise floor: a control arm of ten rounds on this bench",
        _stale_noise_floor,
    ),
    CaveatKind(
        "criteria-changed",
        "margin, primary mark, unit or direction were changed after the first reading",
        "judge by what was asked before measuring, or say why the criteria had to change",
        _criteria_changed,
    ),
    CaveatKind(
        "several-factors", "several factors differ from the baseline together",
        "look at configurations that differ in one factor only", _several_factors,
    ),
    CaveatKind(
        "difference-scale", "readings that may be zero or negative, and a margin in per cent",
        "give the metric a margin in its own unit to show equivalence", _difference_scale,
    ),
    CaveatKind(
        "no-spread", "every round shows exactly the same difference",
        "check that the metric is measured, and finely enough", _no_spread,
    ),
)  # fmt: skip
