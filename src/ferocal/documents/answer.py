"""The answer to a study's question, in a few sentences that lead with what decides."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.caveats.together import TradeOff, find_trade_offs
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, barring_caveat, speed_factor
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.documents.blocks import Line
from ferocal.documents.caveats.words import seen_text
from ferocal.documents.grids import place_of
from ferocal.documents.next_steps import what_decides
from ferocal.documents.numbers import change_text, change_words, factor_text
from ferocal.documents.wording import margins_text, may_be_small, side_text
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.compare import Comparison

# A line for a configuration has no more signs than this, if its names allow it.
WIDTH = 140
# So many lines for configurations; of more, the last one counts what the others show.
_MOST_LINES = 4
# Of a verdict so many names are tried first.
_MOST_NAMES = 5
_MOST_BESIDE = 2
_MOST_ALARMS = 3
_MOST_CONFIGURATIONS = 2
_MOST_REASONS = 2
_CHANCE = "One visit per configuration: these changes cannot be told from noise."
_WITH_CHANGE = (*CHANGED, Verdict.SEEN_ONCE)
_SPOKEN = (*CHANGED, Verdict.EQUIVALENT, Verdict.INCONCLUSIVE, Verdict.SEEN_ONCE)


def answer_lines(comparison: Comparison) -> list[Line]:
    """The answer on one bench: what each configuration makes better and worse, best first.

    Where the control arm is not nil, that comes first, whatever is looked at.
    """
    return [*(Line(text) for text in _alarm(comparison)), *_answer(comparison)]


def _alarm(comparison: Comparison) -> Iterator[str]:
    if comparison.alarm:
        moved = listed(
            [f"{e.series.title} by {change_text(e)}" for e in comparison.alarm[:_MOST_ALARMS]]
        )
        yield (
            f"The bench does not agree with itself: the control arm ({comparison.baseline} again) "
            f"changes {moved}. Explain that before trusting anything below."
        )


def _answer(comparison: Comparison) -> list[Line]:
    compared = [e for e in comparison.effects if not e.control]
    if not compared and comparison.only_baseline:
        text = f"Nothing to compare: {comparison.baseline} is the baseline itself; name another "
        return [Line(f"{text}configuration, or another baseline with --against.")]
    if not compared:
        text = f"Nothing to compare yet: no metric was measured with both {comparison.baseline} "
        return [Line(f"{text}and another configuration.")]
    trade_offs = find_trade_offs(compared)
    spoken = _spoken(compared, trade_offs)
    barred = [Line(text) for text in _not_comparable(compared)]
    if not spoken and barred:
        return barred
    if not spoken:
        return [Line("No verdict: none of these metrics has a direction that counts as better.")]
    headline = _nothing_differs(spoken) or _everything_open(comparison, spoken)
    lines = [Line(headline)] if headline is not None else _by_configuration(comparison, spoken)
    return [*lines, *(Line(text) for text in _but(comparison, trade_offs)), *barred]


def _not_comparable(effects: Sequence[Effect]) -> Iterator[str]:
    """What has no verdict since something forbids the comparison, one sentence for a reason."""
    reasons: dict[str, list[Effect]] = {}
    for effect in effects:
        if effect.verdict is Verdict.NOT_COMPARABLE:
            reasons.setdefault(seen_text(barring_caveat(effect)), []).append(effect)
    for reason, members in list(reasons.items())[:_MOST_REASONS]:
        names = listed(list(dict.fromkeys(e.configuration for e in members)))
        yield f"Not comparable: {_metrics(members)} with {names} ({reason})."
    if (more := len(reasons) - _MOST_REASONS) > 0:
        yield f"Not comparable for {counted(more, 'other reason')}: ferocal compare --detail"


def _spoken(effects: Sequence[Effect], trade_offs: Sequence[TradeOff]) -> list[Effect]:
    """What the answer speaks of: what decides, then what else gets clearly worse."""
    told = {id(effects[n]) for t in trade_offs for n in t.effects}
    judged = [e for e in effects if e.verdict in _SPOKEN]
    deciding = [e for e in judged if e.series.role in DECIDING]
    if not deciding:
        return judged
    details = [e for e in judged if e.series.role == "detail" and is_clearly_worse(e)]
    # What a trade-off tells is not said twice.
    return [*deciding, *(e for e in details if id(e) not in told)]


def is_clearly_worse(effect: Effect) -> bool:
    """Whether an effect is worse by more than the margin, or where no margin applies."""
    return effect.verdict is Verdict.WORSE and not may_be_small(effect)


def _nothing_differs(effects: Sequence[Effect]) -> str | None:
    """The headline where everything that decides stays within the margin."""
    if any(e.verdict is not Verdict.EQUIVALENT for e in effects):
        return None
    names = list(dict.fromkeys(e.configuration for e in effects))
    which = f"any of {len(names)} configurations"
    if len(names) <= _MOST_CONFIGURATIONS:
        which = " or ".join(names)
    stated = " (stated noise)" if any(e.method is Method.STATED for e in effects) else ""
    return (
        f"No change beyond {margins_text(effects)} in {_metrics(effects)} with {which} against "
        f"{effects[0].baseline}{stated}."
    )


def _metrics(effects: Sequence[Effect]) -> str:
    """All metrics of effects in words: "any of 9 metrics (5 primary)"."""
    series = list(dict.fromkeys(e.series for e in effects))
    if len(series) == 1:
        return series[0].title
    primary = sum(s.role == "primary" for s in series)
    if primary == len(series):
        return f"any of {primary} primary metrics"
    return f"any of {len(series)} metrics" + (f" ({primary} primary)" if primary else "")


def _everything_open(comparison: Comparison, effects: Sequence[Effect]) -> str | None:
    """The headline where nothing is decided yet, and what would decide it."""
    if any(e.verdict is not Verdict.INCONCLUSIVE for e in effects):
        return None
    baseline = effects[0].baseline
    if len(effects) == 1:
        (effect,) = effects
        which = f"{effect.series.title} with {effect.configuration}, {change_text(effect)}"
        text = f"Inconclusive: {which}."
    else:
        every = "both" if len(effects) == 2 else f"all {len(effects)}"
        text = f"Inconclusive: {every} comparisons with {baseline}."
    return f"{text} {what_decides(comparison, effects)}"


@dataclass(frozen=True)
class _Alike:
    names: list[str]
    effects: list[Effect]
    verdicts: dict[Series, Verdict]
    is_quiet: bool


def _by_configuration(comparison: Comparison, effects: Sequence[Effect]) -> list[Line]:
    """A line for every configuration, the best-shown first; those that say the same share one."""
    lines: list[_Alike] = []
    for name in sorted(dict.fromkeys(e.configuration for e in effects), key=_rank(effects)):
        own = [e for e in effects if e.configuration == name]
        verdicts = {e.series: e.verdict for e in own}
        alike = [line for line in lines if line.is_quiet and line.verdicts == verdicts]
        if alike:
            alike[0].names.append(name)
        else:
            quiet = not any(v in _WITH_CHANGE for v in verdicts.values())
            lines.append(_Alike([name], own, verdicts, quiet))
    shown = lines if len(lines) <= _MOST_LINES else lines[: _MOST_LINES - 1]
    rest = [e for line in lines[len(shown) :] for e in line.effects]
    names = short_names(comparison.series)
    for e in effects:
        if e.baseline != comparison.baseline and "against" not in names[e.series]:
            names[e.series] += f" (against {e.baseline})"
    together = tuple(s.label for s in comparison.series if s.label and " " in s.label)
    answer = []
    for line in shown:
        text, *shorter = dict.fromkeys(_clauses(line.effects, names))
        head = side_text(line.names, comparison.levels)
        linked = tuple((_name(e, names), place_of(e)) for e in line.effects)
        answer.append(Line(text, head, shorter=tuple(shorter), together=together, linked=linked))
    if rest:
        more = counted(len(dict.fromkeys(e.configuration for e in rest)), "other configuration")
        answer.append(Line(_counts(rest), more))
    once = all(e.verdict is Verdict.SEEN_ONCE for e in effects)
    return [*answer, Line(_CHANCE)] if once else answer


def _rank(effects: Sequence[Effect]) -> Callable[[str], tuple[float, ...]]:
    """Sorts configurations: more shown better than worse, then by size; what decides first."""

    def key(name: str) -> tuple[float, ...]:
        own = [e for e in effects if e.configuration == name]
        by_role = ([e for e in own if e.series.role == role] for role in DECIDING)
        return tuple(figure for members in by_role for figure in _merit(members))

    return key


def _merit(effects: Sequence[Effect]) -> tuple[float, float]:
    """How many more effects are worse than better, and by how much together; low is good."""
    verdicts = [e.verdict for e in effects]
    net = verdicts.count(Verdict.WORSE) - verdicts.count(Verdict.BETTER)
    shown = [e for e in effects if e.verdict in CHANGED and e.scale == "ratio" and not e.bound]
    gains = [math.log(speed_factor(e)) for e in shown]
    return net, -sum(gains)


def short_names(series: Sequence[Series]) -> dict[Series, str]:
    """What metrics are called where one of each name is known: without their workload."""
    deciding = [s for s in series if s.role in DECIDING]
    labels = Counter(s.label for s in deciding)
    return {s: s.label if s.label and labels[s.label] == 1 else s.title for s in series}


def _clauses(effects: Sequence[Effect], names: Mapping[Series, str]) -> Iterator[str]:
    """What becomes better, worse, stays equivalent or is inconclusive; then the same shorter.

    What decides is named; beside primary metrics the others are counted, but for what gets worse.
    The overview below has what is left out where a line is short; what gets worse is never left
    to it.
    """
    primary = [e for e in effects if e.series.role == "primary"]
    beside = [e for e in effects if e.series.role != "primary"] if primary else []
    deciding = primary or list(effects)
    stated = " (stated noise)" if any(e.method is Method.STATED for e in effects) else ""
    others = f"; others: {_beside(beside, names)}" if beside else ""
    whole = list(_deciding(deciding, names, others + stated))
    yield next((text for text in whole if len(text) <= WIDTH), whole[-1])
    worse = [e for e in beside if e.verdict is Verdict.WORSE]
    for most in range(_MOST_BESIDE, 0, -1):
        end = f"; others: {_beside(worse, names, most)}" if worse else ""
        yield from _deciding(deciding, names, end + stated)


def _deciding(effects: Sequence[Effect], names: Mapping[Series, str], end: str) -> Iterator[str]:
    """What becomes of the metrics that decide, with fewer and fewer names."""
    if all(e.verdict is Verdict.EQUIVALENT for e in effects):
        yield f"no change beyond {margins_text(effects)} in {_metrics(effects)}{end}"
        return
    members = {v: sorted((e for e in effects if e.verdict is v), key=_order) for v in _SPOKEN}
    known = {v: own for v, own in members.items() if own}
    changed = [v for v in known if v in _WITH_CHANGE]
    shown = [v for v in known if v in CHANGED]
    # What does not change is counted before fewer changes are named, and so is what was seen once
    # beside what is shown.
    for most, named in itertools.product(
        range(_MOST_NAMES, 0, -1), (list(known), changed, shown or changed)
    ):
        parts = [f"{v}: {_named(known[v], names, most)}" for v in named]
        counted_only = [e for v in known if v not in named for e in known[v]]
        parts += [_counts(counted_only)] if counted_only else []
        yield "; ".join(parts) + end


def _beside(
    effects: Sequence[Effect], names: Mapping[Series, str], most: int = _MOST_BESIDE
) -> str:
    """What does not decide, counted; what gets worse is named, and what is alone."""
    parts = []
    for verdict in (Verdict.WORSE, *(v for v in _SPOKEN if v is not Verdict.WORSE)):
        own = sorted((e for e in effects if e.verdict is verdict), key=_order)
        if (verdict is Verdict.WORSE and own) or len(own) == 1:
            parts.append(f"{verdict} {_named(own, names, most)}")
        elif own:
            parts.append(_counts(own))
    return ", ".join(parts)


def _order(effect: Effect) -> tuple[int, bool, float]:
    """What decides first; shares of change by size, then amounts, which do not compare."""
    role = ("primary", "secondary", "detail").index(effect.series.role)
    if effect.scale != "ratio":
        return role, True, 0.0
    return role, False, -abs(effect.shift.mean)


def _named(effects: Sequence[Effect], names: Mapping[Series, str], most: int) -> str:
    """The first of several effects by name, the others counted."""
    rest = effects[most:]
    if rest and effects[0].verdict not in _WITH_CHANGE:
        return counted(len(effects), "metric")
    parts = [_name(e, names) for e in effects[:most]]
    return ", ".join([*parts, f"{len(rest)} more"] if rest else parts)


def _name(effect: Effect, names: Mapping[Series, str]) -> str:
    name = names[effect.series]
    if effect.verdict not in _WITH_CHANGE:
        return name
    small = " (may be smaller than the margin)" if may_be_small(effect) else ""
    if any(caveat.code == "magnitude" for caveat in effect.caveats):
        small += " (doubtful)"
    return f"{name} {change_words(effect)}{small}"


def _counts(effects: Sequence[Effect]) -> str:
    """How many effects have each verdict."""
    counts = [(v, sum(e.verdict is v for e in effects)) for v in _SPOKEN]
    return ", ".join(f"{count} {v}" for v, count in counts if count)


def _but(comparison: Comparison, trade_offs: Sequence[TradeOff]) -> list[str]:
    """The trade-off that most configurations share, in one sentence."""
    groups: dict[tuple[str, str, str], list[TradeOff]] = {}
    for found in trade_offs:
        place = (found.better.series.workload, found.better.series.metric)
        groups.setdefault((*place, found.worse.series.metric), []).append(found)
    if not groups:
        return []
    first = max(groups.values(), key=len)
    better, worse = first[0].better.series, first[0].worse.series
    side = side_text([t.better.configuration for t in first], comparison.levels)
    changes = listed([factor_text(t.worse) or change_text(t.worse) for t in first[:2]])
    once = ", seen once" if any(t.seen_once for t in first) else ""
    more = len(groups) - 1
    rest = f"; {counted(more, 'more trade-off')} in --detail" if more else ""
    # A metric that is alone in its workload has no separate name.
    gain, loss = (series.label or series.metric for series in (better, worse))
    return [
        f"But under {side}, {better.workload} trades better {gain} for worse {loss} "
        f"({changes}{once}){rest}."
    ]
