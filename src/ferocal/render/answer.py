"""The answer to a study's question, in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, control_failures
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.render.numbers import change_text, series_margin
from ferocal.terms.wording import counted, listed

# With more configurations than this the sentence counts instead of naming each.
_MOST_NAMED = 2
_MOST_METRICS = 4


def label(effect: Effect) -> str:
    """Workload and metric in one piece."""
    return f"{effect.series.workload} {effect.series.metric}"


def answer(effects: Sequence[Effect]) -> str:
    """One sentence that answers the question: yes, no, or not decided, and why.

    Where the control arm is not nil, that comes first.
    """
    broken = control_failures(effects)
    compared = [effect for effect in effects if not effect.control]
    if not compared:
        return "Not decided: nothing has been measured in both the baseline and another one."
    if not broken:
        return _answer(compared)
    moved = listed([f"{label(e)} by {change_text(e)}" for e in broken[:_MOST_METRICS]])
    return (
        f"The bench does not agree with itself: the control arm, which is {broken[0].baseline} "
        f"again, changes {moved}, so trust nothing below before that is explained. "
        f"{_answer(compared)}"
    )


def _answer(effects: Sequence[Effect]) -> str:
    changed = [effect for effect in effects if effect.verdict in CHANGED]
    pending = [effect for effect in effects if effect.verdict is Verdict.INCONCLUSIVE]
    if changed:
        return f"Yes: {_changes(effects)}."
    baseline = effects[0].baseline
    if not pending:
        return f"No: nothing changes by more than {_margins(effects)} against {baseline}."
    within = len(effects) - len(pending)
    rest = f", the other {within} stay within {_margins(effects)}" if within else ""
    return (
        f"Not decided: {len(pending)} of {counted(len(effects), 'comparison')} "
        f"with {baseline} are inconclusive{rest}."
    )


def _changes(effects: Sequence[Effect]) -> str:
    names = list(dict.fromkeys(effect.configuration for effect in effects))
    by_name = {name: [e for e in effects if e.configuration == name] for name in names}
    if len(names) <= _MOST_NAMED:
        return "; ".join(_configuration_phrase(name, by_name[name]) for name in names)
    moving = [n for n in names if any(e.verdict in CHANGED for e in by_name[n])]
    changed = sorted((e for e in effects if e.verdict in CHANGED), key=lambda e: -abs(e.shift.mean))
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
    reach = "" if effect.beyond_margin else ", maybe less than the margin"
    return f"{change_text(effect)} ({effect.verdict}{reach})"


def _configuration_phrase(name: str, effects: Sequence[Effect]) -> str:
    changed = sorted((e for e in effects if e.verdict in CHANGED), key=lambda e: -abs(e.shift.mean))
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
    if effect.verdict in CHANGED:
        return f"{effect.verdict}" if effect.beyond_margin else f"{effect.verdict}, maybe < margin"
    if effect.out_of_reach:
        return f"{effect.verdict}, > {MOST_ROUNDS:,} more rounds"
    if effect.verdict is Verdict.INCONCLUSIVE and effect.more_rounds is not None:
        return f"{effect.verdict}, ~{counted(effect.more_rounds, 'more round')}"
    return str(effect.verdict)


def evidence_text(effect: Effect) -> str:
    """What the interval rests on: "5 rounds", "3 and 4 visits", "1 visit"."""
    if effect.method is Method.PAIRED:
        return counted(effect.rounds, "round")
    if effect.visits == effect.base_visits:
        text = f"{counted(effect.visits, 'visit')} each"
    else:
        text = f"{effect.visits} and {effect.base_visits} visits"
    return f"{text}, noise floor" if effect.method is Method.FLOOR else text


def next_step(effects: Sequence[Effect]) -> str:
    """What to do after a comparison."""
    compared = [effect for effect in effects if not effect.control]
    possible = [e.more_rounds for e in compared if e.more_rounds is not None and e.rounds > 0]
    if possible:
        rounds = max(e.rounds for e in compared) + max(possible)
        return (
            f"`ferocal measure --rounds {rounds}` would be expected to decide what can be; "
            "`ferocal runs` lists the readings"
        )
    return "`ferocal runs` lists the readings, `ferocal report` writes a page"


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
