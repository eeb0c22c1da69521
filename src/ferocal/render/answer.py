"""The answer to a study's question, in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.data.readings import margin_on_scale
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.render.numbers import change_text, series_margin
from ferocal.terms.wording import counted, listed

# With more configurations than this the sentence counts instead of naming each.
_MOST_NAMED = 2
_MOST_METRICS = 4
_JUDGED = (*CHANGED, Verdict.EQUIVALENT, Verdict.INCONCLUSIVE)


def label(effect: Effect) -> str:
    """Workload and metric in one piece."""
    return f"{effect.series.workload} {effect.series.metric}"


def answer(effects: Sequence[Effect], alarm: Sequence[Effect] = ()) -> str:
    """One sentence that answers the question: yes, no, or not decided, and why.

    Where the control arm is not nil (``alarm``), that comes first, whatever is looked at.
    """
    compared = [effect for effect in effects if not effect.control]
    text = _answer(compared)
    if not alarm:
        return text
    moved = listed([f"{label(e)} by {change_text(e)}" for e in alarm[:_MOST_METRICS]])
    return (
        f"The bench does not agree with itself: the control arm, which is {alarm[0].baseline} "
        f"again, changes {moved}, so trust nothing below before that is explained. {text}"
    )


def _answer(effects: Sequence[Effect]) -> str:
    if not effects:
        return "Not decided: nothing has been measured in both the baseline and another one."
    judged = [effect for effect in effects if effect.verdict in _JUDGED]
    once = [effect for effect in effects if effect.verdict is Verdict.SEEN_ONCE]
    if not judged:
        return _seen_once(once) if once else "No verdict: neither direction is better."
    rest = ""
    if once:
        rest = f" {_capital(counted(len(once), 'comparison'))} more {_were(once)} seen once only."
    return _judged(judged) + rest


def _judged(effects: Sequence[Effect]) -> str:
    changed = [effect for effect in effects if effect.verdict in CHANGED]
    pending = [effect for effect in effects if effect.verdict is Verdict.INCONCLUSIVE]
    if changed:
        return f"Yes: {_changes(effects)}."
    baseline = effects[0].baseline
    if not pending:
        return f"No: nothing changes by more than {_margins(effects)} against {baseline}."
    within = len(effects) - len(pending)
    rest = f", the other {within} stay within {_margins(effects)}" if within else ""
    looks = {effect.open_until for effect in pending}
    if len(looks) == 1 and None not in looks:
        return (
            f"Open until round {looks.pop()}, when the results are looked at next: "
            f"{counted(len(pending), 'comparison')} with {baseline}{rest}."
        )
    return (
        f"Not decided: {len(pending)} of {counted(len(effects), 'comparison')} "
        f"with {baseline} are inconclusive{rest}."
    )


def _seen_once(effects: Sequence[Effect]) -> str:
    """What was seen, as a description: nothing shows how much of it is chance."""
    baseline = effects[0].baseline
    names = list(dict.fromkeys(effect.configuration for effect in effects))
    parts = []
    for name in names[:_MOST_NAMED]:
        own = sorted((e for e in effects if e.configuration == name), key=_size)
        named = [f"{label(e)} {change_text(e)}" for e in own[:_MOST_METRICS]]
        if len(own) > _MOST_METRICS:
            named.append(counted(len(own) - _MOST_METRICS, "further metric"))
        parts.append(f"{name} {listed(named)}")
    more = len(names) - _MOST_NAMED
    rest = f"; and {counted(more, 'further configuration')}" if more > 0 else ""
    return (
        f"Seen once, so there is no verdict: against {baseline}, {'; '.join(parts)}{rest}. How "
        "much of that is chance, nothing shows."
    )


def _size(effect: Effect) -> tuple[bool, float]:
    """Larger changes first; those in a unit of their own cannot be ranked among shares."""
    return effect.scale != "ratio", -abs(effect.shift.mean)


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _were(effects: Sequence[Effect]) -> str:
    return "was" if len(effects) == 1 else "were"


def _changes(effects: Sequence[Effect]) -> str:
    names = list(dict.fromkeys(effect.configuration for effect in effects))
    by_name = {name: [e for e in effects if e.configuration == name] for name in names}
    if len(names) <= _MOST_NAMED:
        return "; ".join(_configuration_phrase(name, by_name[name]) for name in names)
    moving = [n for n in names if any(e.verdict in CHANGED for e in by_name[n])]
    changed = sorted((e for e in effects if e.verdict in CHANGED), key=_size)
    largest = changed[0]
    sentence = (
        f"{len(moving)} of {len(names)} configurations change a score against "
        f"{largest.baseline}, most of all {largest.configuration}: {label(largest)} "
        f"{_change_phrase(largest)}"
    )
    losses = [e for e in changed if e.verdict is Verdict.WORSE]
    if not losses:
        return sentence
    worst = losses[0]
    verb = "gets" if len(losses) == 1 else "get"
    return (
        f"{sentence}; but {len(losses)} of {counted(len(effects), 'comparison')} {verb} worse, "
        f"{label(worst)} with {worst.configuration} ({change_text(worst)}) the most"
    )


def _change_phrase(effect: Effect) -> str:
    reach = ", maybe less than the margin" if _may_be_small(effect) else ""
    stated = ", as stated" if effect.method is Method.STATED else ""
    return f"{change_text(effect)} ({effect.verdict}{reach}{stated})"


def _configuration_phrase(name: str, effects: Sequence[Effect]) -> str:
    changed = sorted((e for e in effects if e.verdict in CHANGED), key=_size)
    within = [e for e in effects if e.verdict is Verdict.EQUIVALENT]
    pending = [e for e in effects if e.verdict is Verdict.INCONCLUSIVE]
    parts = []
    if changed:
        named = [f"{label(e)} {_change_phrase(e)}" for e in changed[:_MOST_METRICS]]
        if len(changed) > _MOST_METRICS:
            named.append(counted(len(changed) - _MOST_METRICS, "further metric"))
        parts.append(f"changes {listed(named)}")
    if within:
        which = listed([label(e) for e in within]) if len(within) <= 2 else f"{len(within)} metrics"
        parts.append(f"leaves {which} within {_margins(within)}")
    if pending:
        which = (
            listed([label(e) for e in pending]) if len(pending) <= 2 else f"{len(pending)} metrics"
        )
        parts.append(f"leaves {which} undecided")
    return f"{name} {listed(parts)}"


def _margins(effects: Sequence[Effect]) -> str:
    margins = {series_margin(effect.series) for effect in effects}
    return margins.pop() if len(margins) == 1 else "their margins"


def verdict_text(effect: Effect) -> str:
    """The verdict with what qualifies it, short enough for a table."""
    text = str(effect.verdict)
    if _may_be_small(effect):
        text = f"{text}, maybe < margin"
    if effect.verdict is Verdict.INCONCLUSIVE:
        text = _open_text(effect)
    return f"{text}, as stated" if effect.method is Method.STATED else text


def _may_be_small(effect: Effect) -> bool:
    """Whether a change is shown that may be less than the margin, where one applies."""
    if effect.verdict not in CHANGED or effect.beyond_margin:
        return False
    return not math.isnan(margin_on_scale(effect.series, effect.scale))


def _open_text(effect: Effect) -> str:
    """What an effect that is not decided needs, if that can be had."""
    if effect.open_until is not None:
        return f"open until round {effect.open_until}"
    if effect.out_of_reach:
        return f"{effect.verdict}, out of reach (> {MOST_ROUNDS})"
    if effect.more_rounds is not None:
        return f"{effect.verdict}, ~{counted(effect.more_rounds, 'more round')}"
    if effect.more_visits is not None:
        return f"{effect.verdict}, ~{counted(effect.more_visits, 'more visit')} a side"
    return str(effect.verdict)


def evidence_text(effect: Effect) -> str:
    """What the interval rests on: "5 rounds", "3 and 4 visits", "1 visit"."""
    if effect.method is Method.PAIRED:
        return counted(effect.rounds, "round")
    if effect.visits == effect.base_visits:
        text = f"{counted(effect.visits, 'visit')} each"
    else:
        text = f"{effect.visits} and {effect.base_visits} visits"
    behind = {Method.FLOOR: "noise floor", Method.STATED: "noise as stated", Method.BOUND: "bound"}
    return f"{text}, {behind[effect.method]}" if effect.method in behind else text


_RUNS = "`ferocal runs` lists the readings"


def next_step(effects: Sequence[Effect]) -> str:
    """What to do after a comparison, of what can be done here."""
    compared = [effect for effect in effects if not effect.control]
    looks = [e.open_until for e in compared if e.open_until is not None]
    if looks:
        return f"`ferocal measure --decide` goes on to the look after round {min(looks)}; {_RUNS}"
    rounds = [e.more_rounds for e in compared if e.more_rounds is not None and e.rounds > 0]
    if rounds:
        number = max(e.rounds for e in compared) + max(rounds)
        return (
            f"`ferocal measure --rounds {number}` would be expected to decide what can be; {_RUNS}"
        )
    visits = [e.more_visits for e in compared if e.more_visits is not None]
    if visits:
        return (
            f"about {counted(max(visits), 'more visit')} to each side would be expected to decide "
            f"what can be; {_RUNS}"
        )
    if any(e.verdict is Verdict.SEEN_ONCE for e in compared):
        return (
            "three visits to one configuration show how much visits vary; or bring that in with "
            "`ferocal noise-floor`, or state it as `noise` in the study file"
        )
    return f"{_RUNS}, `ferocal report` writes a page"


@dataclass(frozen=True)
class CaveatGroup:
    """All caveats of one code: what to do, and what was seen where."""

    code: str
    advice: str
    seen: tuple[tuple[str, str], ...]


def collect_caveats(effects: Sequence[Effect]) -> list[CaveatGroup]:
    """Each code once, and below it each distinct caveat once, with where it applies."""
    places: dict[Caveat, list[Effect]] = {}
    for effect in effects:
        for caveat in effect.caveats:
            places.setdefault(caveat, []).append(effect)
    groups: dict[str, list[Caveat]] = {}
    for caveat in places:
        groups.setdefault(caveat.code, []).append(caveat)
    return [
        CaveatGroup(
            code, caveats[0].advice, tuple((_where(effects, places[c]), c.seen) for c in caveats)
        )
        for code, caveats in groups.items()
    ]


def caveat_lines(effects: Sequence[Effect]) -> list[str]:
    """The caveats as lines for a terminal; of one code a few, the others are counted."""
    lines = []
    for group in collect_caveats(effects):
        if len(group.seen) == 1:
            ((where, seen),) = group.seen
            lines.append(f"caveat {group.code} ({where}): {seen}: {group.advice}")
            continue
        lines.append(f"caveat {group.code}: {group.advice}")
        lines += [f"  {where}: {seen}" for where, seen in group.seen[:_MOST_METRICS]]
        more = len(group.seen) - _MOST_METRICS
        if more > 0:
            lines.append(f"  and {more:,} more, which `ferocal compare --json` lists")
    return lines


def _where(effects: Sequence[Effect], affected: Sequence[Effect]) -> str:
    if len(affected) == len(effects):
        return "all"
    series = list(dict.fromkeys(e.series for e in affected))
    if len(affected) == sum(e.series in series for e in effects):
        return ", ".join(dict.fromkeys(label(e) for e in affected))
    names = list(dict.fromkeys(e.configuration for e in affected))
    per_name = sum(e.configuration in names for e in effects)
    if len(affected) == per_name:
        return ", ".join(names)
    if len(affected) > _MOST_METRICS:
        return counted(len(affected), "comparison")
    return ", ".join(f"{e.configuration} on {label(e)}" for e in affected)
