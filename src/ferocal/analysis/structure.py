"""Caveats that follow from how many visits and rounds there are, and how they lie."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ferocal.analysis.caveats import Caveat, sized
from ferocal.analysis.contrasts import Method
from ferocal.analysis.effects import Effect, Setting
from ferocal.analysis.floors import STALE_DAYS
from ferocal.wording import counted, listed

FEW_ROUNDS = 5


@dataclass(frozen=True)
class Evidence:
    """What an effect rests on, besides its own numbers.

    ``rounds`` is the number of rounds of the study, ``unpaired`` of those with readings
    of one side only. ``run_sd`` is the standard deviation of runs within a visit, and
    ``baseline_move`` by how much the baseline moved from its first visit to its last, with
    others between them (NaN where it did not return), on the scale of the analysis.
    Without ``visits_known`` every run was taken for a visit.
    """

    rounds: int
    unpaired: int
    run_sd: float
    baseline_move: float
    visits_known: bool


def find_caveats(effect: Effect, setting: Setting, evidence: Evidence) -> list[Caveat]:
    """The caveats of an effect, before its readings are looked at."""
    found = [*_replication(effect, evidence), *_extension(effect, setting, evidence.rounds)]
    if effect.method is Method.PAIRED and effect.shift.sd == 0:
        found.append(Caveat("no-spread", "every round shows exactly the same difference"))
    if evidence.unpaired:
        found.append(Caveat("unpaired-rounds", _unpaired(effect, evidence.unpaired)))
    differing = list(setting.differing.get(effect.configuration, ()))
    if len(differing) > 1:
        text = f"several factors differ from {effect.baseline} together, {listed(differing)}, so "
        found.append(Caveat("several-factors", f"{text}the change belongs to none of them alone"))
    if effect.scale == "difference" and effect.series.unit_margin is None:
        text = "readings may be zero or negative, so the change is a difference in "
        text += f"{effect.series.unit} and a margin in per cent does not apply"
        found.append(Caveat("difference-scale", text))
    return found


def _unpaired(effect: Effect, rounds: int) -> str:
    verbs = ("has", "does") if rounds == 1 else ("have", "do")
    return (
        f"{counted(rounds, 'round')} {verbs[0]} readings of only one of {effect.configuration} and "
        f"{effect.baseline} and {verbs[1]} not count"
    )


def _replication(effect: Effect, evidence: Evidence) -> list[Caveat]:
    """Caveats on the number of visits, and on when they were made."""
    found = []
    if effect.method is Method.PAIRED:
        if effect.rounds < FEW_ROUNDS:
            found.append(Caveat("few-rounds", f"only {effect.rounds} rounds pair"))
        return found
    if effect.method is not Method.VISITS:
        found.append(Caveat("one-visit", _one_visit(effect, evidence.run_sd)))
    if effect.rounds == 0:
        text = "the configurations were not measured in common rounds, so whatever else "
        text += "changed with time is in this change too"
        if not math.isnan(evidence.baseline_move):
            moved = sized(evidence.baseline_move, effect.scale, effect.series.unit)
            text += f"; the baseline itself moved by {moved} from its first visit to its last"
        found.append(Caveat("not-interleaved", text))
    if effect.rounds == 0 and not evidence.visits_known:
        text = "which runs belong to one visit is not known, so every run counts as a visit and "
        text += "the interval may be too narrow"
        found.append(Caveat("unknown-visits", text))
    if effect.floor is not None and effect.floor.age > STALE_DAYS:
        text = f"the noise floor is {effect.floor.age:.0f} days old, and visits may vary more now"
        found.append(Caveat("stale-floor", text))
    return found


def _one_visit(effect: Effect, run_sd: float) -> str:
    """What one visit can tell, and what it cannot."""
    if effect.visits == effect.base_visits == 1:
        text = "each side has one visit only"
    else:
        one = effect.configuration if effect.visits == 1 else effect.baseline
        text = f"there was only one visit to {one}"
    if not math.isnan(run_sd):
        spread = sized(run_sd, effect.scale, effect.series.unit).lstrip("+")
        text += f"; runs vary by {spread} (SD) within a visit, visits by more"
    if effect.floor is not None:
        age = "less than a day" if effect.floor.age < 1 else f"{effect.floor.age:.0f} days"
        return f"{text}; the interval comes from a noise floor, {effect.floor.source}, {age} old"
    return f"{text}; how much visits vary is not known, so there is no interval"


def _extension(effect: Effect, setting: Setting, rounds: int) -> list[Caveat]:
    """A caveat on rounds that were added after the results could be seen."""
    if setting.looks is not None:
        if rounds <= setting.looks.limit:
            return []
        text = f"the study was extended to {rounds} rounds after the look at round "
        text += f"{setting.looks.limit}; its verdicts are those of the looks"
        return [Caveat("extended", text)]
    if setting.planned_rounds is None or effect.rounds <= setting.planned_rounds:
        return []
    text = f"the study was extended from {setting.planned_rounds} to {effect.rounds} rounds after "
    text += "its results could be seen, and stopping when they please finds too many differences"
    return [Caveat("extended", text)]
