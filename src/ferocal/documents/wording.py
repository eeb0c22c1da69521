"""Effects in words: verdicts, what they rest on, and names of several of them."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.verdicts import CHANGED, SIGNIFICANCE, Verdict
from ferocal.documents.numbers import series_margin
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect


# What a verdict is called where there is room for a mark only: in grids, filters and gates.
_MARKS = {Verdict.EQUIVALENT: "equal", Verdict.INCONCLUSIVE: "open"}
VERDICT_MARKS = {verdict: _MARKS.get(verdict, str(verdict)) for verdict in Verdict}
_BEHIND = {Method.FLOOR: "noise floor", Method.STATED: "stated noise", Method.BOUND: "bound"}


def verdict_text(effect: Effect) -> str:
    """The verdict with what qualifies it, and why it is open."""
    text = str(effect.verdict)
    if may_be_small(effect):
        text += ", may be within the margin"
    if effect.verdict is Verdict.INCONCLUSIVE:
        text += _why_open(effect)
    return f"{text}, as stated" if effect.method is Method.STATED else text


def may_be_small(effect: Effect) -> bool:
    """Whether a change is shown that may be less than the margin, where one applies."""
    if effect.verdict not in CHANGED or effect.beyond_margin:
        return False
    return not math.isnan(margin_on_scale(effect.series, effect.scale))


def _why_open(effect: Effect) -> str:
    """Why an effect is not decided, and what it needs, if that can be had."""
    if effect.open_until is not None:
        return f" until round {effect.open_until}"
    text = ""
    if effect.shift.p_value < SIGNIFICANCE and effect.family_size > 1:
        text = f" after adjusting for {effect.family_size} comparisons"
    if effect.out_of_reach:
        return f"{text}, out of reach (> {MOST_ROUNDS} rounds)"
    if effect.more_rounds is not None:
        return f"{text}, ~{counted(effect.more_rounds, 'more round')}"
    if effect.more_visits is not None:
        return f"{text}, ~{counted(effect.more_visits, 'more visit')} a side"
    return text


def evidence_text(effect: Effect) -> str:
    """What the interval rests on: "5 rounds", "3 and 4 visits", "1 visit each"."""
    if effect.method is Method.PAIRED:
        return counted(effect.rounds, "round")
    if effect.visits == effect.base_visits:
        text = f"{counted(effect.visits, 'visit')} each"
    else:
        text = f"{effect.visits} and {effect.base_visits} visits"
    return f"{text}, {_BEHIND[effect.method]}" if effect.method in _BEHIND else text


def margins_text(effects: Sequence[Effect]) -> str:
    """The margin of effects, if they share one."""
    margins = {series_margin(effect.series) for effect in effects}
    return margins.pop() if len(margins) == 1 else "the margins"


def side_text(names: Collection[str], levels: Mapping[str, Mapping[str, str]]) -> str:
    """What configurations have in common, with these, else their names.

    ``levels`` are those of all configurations, the baseline first. What just these have in
    common is a level that the baseline does not have.
    """
    baseline, *others = levels
    for factor, level in levels[next(iter(names))].items():
        sharing = {name for name in others if levels[name].get(factor) == level}
        if len(names) > 1 and sharing == set(names) and levels[baseline].get(factor) != level:
            members = [name for name in levels if name in names]
            shown = ", ".join(members) if len(members) <= 3 else f"{len(members)} configurations"
            return f"{level} ({shown})"
    ordered = [name for name in levels if name in names]
    return listed(ordered) if len(ordered) <= 2 else f"{len(ordered)} configurations"
