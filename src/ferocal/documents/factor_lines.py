"""What is said of factors, line by line: levels, interactions, parts, scaling."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.caveats.together import direction_of, find_opposites
from ferocal.analysis.data.series import share_of
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.documents.blocks import Table, make_table
from ferocal.documents.numbers import (
    change_decimals,
    change_text,
    change_with_half,
    decimals_for,
    interval_shape,
)
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.factors.design import Term
    from ferocal.analysis.factors.results import (
        Decomposition,
        FactorEffect,
        Interaction,
        Judged,
        Scaling,
        ScalingStep,
    )
    from ferocal.answers.factors import BenchFactors, Inseparable

# Of more, what decides is shown, and the rest with --detail.
_MOST_NAMED = 4
_MOST_SENTENCES = 3
_MOST_PARTS = 6
_MOST_COLUMNS = 4
# What the parts leave of a whole change is said from a thousandth on.
_REST = 1e-3
_SPOKEN = (*CHANGED, Verdict.EQUIVALENT, Verdict.INCONCLUSIVE, Verdict.SEEN_ONCE)
_WITH_CHANGE = (*CHANGED, Verdict.SEEN_ONCE)


def level_lines(bench: BenchFactors) -> Iterator[tuple[str, str]]:
    """For every level what it makes better and worse, and what it leaves as it is."""
    for found in bench.unlike:
        least, most = (f"{j.series.title} ({change_text(j)})" for j in (found.least, found.most))
        yield (
            "",
            f"{found.factor} {found.level} does not act alike: it helps {most} most and {least} "
            "least, so that an average says little.",
        )
    told: set[frozenset[str]] = set()
    for factor, levels in bench.factors.items():
        for level in levels[1:]:
            everything = [e for e in bench.effects if (e.factor, e.level) == (factor, level)]
            own = [e for e in everything if not e.is_between]
            between = [e for e in everything if e.is_between]
            if between:
                yield f"{factor} {level} against {between[0].against}", _level_text(between)
            # What came with it for a few metrics only stands below the table.
            together = list(own[0].together) if len({e.together for e in own}) == 1 else []
            members = frozenset([f"{factor}={level}", *together])
            if members in told:
                continue  # what always comes together is one line
            told.add(members)
            others = [t.partition(":")[0].replace("=", " ") for t in together]
            yield listed([f"{factor} {level}", *others]), _level_text(own)
    yield from (("", text) for text in _trade_offs(bench))


def _trade_offs(bench: BenchFactors) -> Iterator[str]:
    """What levels make better at the cost of something that is read with it."""
    for factor, levels in bench.factors.items():
        for level in levels[1:]:
            own = [e.judged for e in bench.effects
                   if (e.factor, e.level) == (factor, level)
                   and e.judged is not None and not e.is_between]  # fmt: skip
            known = [(j, direction_of(j, j.series)) for j in own]
            changed = [(j, d) for j, d in known if d is not None]
            pairs = find_opposites([(j.series, d) for j, d in changed])
            for a, b in pairs[:1]:
                better, worse = changed[a][0], changed[b][0]
                more = f"; {len(pairs) - 1} more" if len(pairs) > 1 else ""
                yield (
                    f"But {factor} {level} trades better {better.series.title} "
                    f"({change_text(better)}) for worse {worse.series.title} "
                    f"({change_text(worse)}){more}."
                )


def _level_text(effects: Sequence[FactorEffect]) -> str:
    index = next((e.judged for e in effects if not e.series.workload), None)
    metrics = [e.judged for e in effects if e.series.workload and e.judged is not None]
    if not metrics and index is None:
        return "unknown: it always changed together with others"
    metrics.sort(key=lambda j: -abs(j.mean) if j.scale == "ratio" else 0.0)
    parts = []
    for verdict in _SPOKEN:
        names = [_named(j) for j in metrics if j.verdict is verdict]
        if names:
            rest = len(names) - _MOST_NAMED
            text = ", ".join(names[:_MOST_NAMED]) + (f", {rest} more" if rest > 0 else "")
            parts.append(f"{verdict}: {text}")
    if index is None:
        return "; ".join(parts)
    # Beside changes of times, which are better lower, its own direction has to be said.
    said = [] if index.verdict in CHANGED else [str(index.verdict)]
    about = ", ".join([*said, f"{index.series.better} is better"])
    return "; ".join([f"index {change_text(index)} ({about})", *parts])


def _named(judged: Judged) -> str:
    title = judged.series.title
    return f"{title} {change_text(judged)}" if judged.verdict in _WITH_CHANGE else title


def interaction_sentences(interactions: Sequence[Interaction]) -> Iterator[str]:
    """What is shown to act on each other, the largest first, in words."""
    groups: dict[tuple[Series, str, str, str], list[Interaction]] = {}
    for i in interactions:
        if i.judged.verdict in CHANGED and i.series.workload:
            groups.setdefault((i.series, i.factor, i.level, i.other), []).append(i)
    if any(not math.isnan(i.judged.shift.p_value) for i in interactions) and not groups:
        pairs = list(dict.fromkeys(f"{i.other} and {i.factor}" for i in interactions))
        which = listed(pairs) if len(pairs) <= 2 else "any two factors"
        yield f"No interaction between {which} was detected."
    for group in sorted(groups.values(), key=lambda g: -max(abs(i.judged.mean) for i in g)):
        yield interaction_sentence(group)


def interaction_sentence(group: Sequence[Interaction]) -> str:
    """What a level does beside each of the levels of another factor."""
    first = group[0]
    beside = [
        (first.with_first, first.other_first),
        *((i.with_other, i.other_level) for i in group),
    ]
    by_verdict: dict[str, list[tuple[Judged, str]]] = {}
    for judged, other in sorted(beside, key=lambda pair: -abs(pair[0].mean)):
        by_verdict.setdefault(_verb(judged), []).append((judged, other))
    shown = [verb for verb in ("gains", "loses") if verb in by_verdict]
    quiet = [pair for verb, pairs in by_verdict.items() if verb not in shown for pair in pairs]
    if not shown:
        known = listed([f"{other} ({change_text(j)})" for j, other in quiet])
        text = f"the effect of {first.level} on {first.series.title} differs between {known}"
        return f"{text}; neither change is significant alone"
    parts = [
        f"{verb} with {listed([f'{other} ({change_text(j)})' for j, other in by_verdict[verb]])}"
        for verb in shown
    ]
    text = f"{first.level} on {first.series.title} {', but '.join(parts)}"
    if not quiet:
        return text
    known = listed([f"{o} ({change_text(j)}, {j.verdict})" for j, o in quiet])
    return f"{text}, but not with {known}"


def _verb(judged: Judged) -> str:
    return {Verdict.BETTER: "gains", Verdict.WORSE: "loses"}.get(judged.verdict, "")


def heading_of(parts: Sequence[Decomposition]) -> str:
    """From where to where a change is divided, and what was measured between."""
    if not parts:
        return ""
    names = list(parts[0].through)
    rest = len(names) - _MOST_SENTENCES
    shown = names if rest <= 1 else [*names[:_MOST_SENTENCES], f"{rest} others between"]
    through = f", through {listed(shown)}" if shown else ""
    return f"{parts[0].start} → {parts[0].end}{through}"


def part_lines(parts: Sequence[Decomposition], *, detail: bool = False) -> list[str]:
    """The whole changes as products (or sums) of the parts of factors."""
    return limited([part_line(part) for part in parts], detail)


def part_line(part: Decomposition) -> str:
    """A whole change as the product, or the sum, of the parts of its factors."""
    ratio = part.total.scale == "ratio"
    joined = (" × " if ratio else " + ").join(
        f"{share.factor} {change_with_half(share.judged)}" for share in part.parts
    )
    text = f"{part.series.title}: {change_with_half(part.total)} = {joined}"
    if part.lacks and abs(part.rest) > _REST:
        rest = share_of(part.rest + part.total.mean) if ratio else part.rest + part.total.mean
        text += f"; measured as a whole {change_text(replace(part.total, change=rest))}"
    shares = [s.share for s in part.parts]
    # No share is reported of what may be noise.
    shown = all(is_shown(judged) for judged in (part.total, *(s.judged for s in part.parts)))
    if shown and len(shares) > 1 and all(0 <= share <= 1 for share in shares):
        text += f" ({listed([f'{100 * share:.0f} %' for share in shares])} of it)"
    return text


def is_shown(judged: Judged) -> bool:
    """Whether the interval of a change leaves out zero."""
    return judged.low > 0 or judged.high < 0


def _efficiency_interval(known: Judged) -> str:
    """The interval of an efficiency, as it stands behind it; nothing where there is none."""
    if not math.isfinite(known.high - known.low):
        return ""
    low, high = (100 * (1 + end) for end in (known.low, known.high))
    places = change_decimals(known)
    if interval_shape(low, high) == "even":
        return f" ±{grouped((high - low) / 2, places)}"
    return f" ({grouped(low, places)} … {grouped(high, places)})"


def scaling_tables(scaling: Sequence[Scaling]) -> Iterator[Table]:
    """For every amount of a resource how many times as fast workloads are, and how much that is.

    A row per workload: its metrics, what that is of the ideal by the first of them, and whether
    what there is more of is used.
    """
    groups: dict[tuple[str, str, float], list[tuple[Series, ScalingStep]]] = {}
    for known in scaling:
        for step in known.steps:
            key = (known.factor, known.first, step.amount / known.least)
            groups.setdefault(key, []).append((known.series, step))
    for (factor, first, ideal), steps in groups.items():
        metrics = list(dict.fromkeys(series.metric for series, _ in steps))[:_MOST_COLUMNS]
        workloads = dict.fromkeys(series.workload for series, _ in steps)
        rows = []
        for workload in workloads:
            own = {series.metric: step for series, step in steps if series.workload == workload}
            judged = next(iter(own.values()))
            rows.append(
                [
                    workload,
                    *(speed_text(own[m].speed) if m in own else "–" for m in metrics),
                    _of_ideal(judged.efficiency),
                    judged.use,
                ]
            )
        amount = steps[0][1].amount
        head = f"{amount:g} {factor} against {first}"
        caption = (
            f"times as fast; ideal {ideal:g}; used: at least half of what that could give; "
            "ignored: equivalent to none"
        )
        right = [*metrics, "of the ideal"]
        heads = (head, *metrics, "of the ideal", "use")
        yield make_table(heads, rows, right=right, caption=caption)


def speed_text(speed: Judged) -> str:
    """How many times as fast, with half the width of the interval."""
    factor, half = 1 + speed.change, (speed.high - speed.low) / 2
    if not math.isfinite(half) or half <= 0:
        return significant(factor, 3)
    places = decimals_for(half)
    return f"{grouped(factor, places)} ±{grouped(half, places)}"


def _of_ideal(known: Judged) -> str:
    reached = grouped(100 * (1 + known.change), change_decimals(known))
    return f"{reached}{_efficiency_interval(known)} %"


def serial_lines(scaling: Scaling) -> Iterator[str]:
    """The serial share of a metric, where that is known."""
    if not math.isnan(scaling.serial):
        share, width = 100 * scaling.serial, 100 * scaling.serial_half_width
        half = f" ±{significant(width, 2)}" if math.isfinite(width) else ""
        text = f"serial share {significant(share, 2)}{half} % (Amdahl)"
        yield f"{scaling.series.title}: {text}"


def inseparable_text(found: Inseparable) -> str:
    """What cannot be told apart, as a sentence without its remedy."""
    if found.moved is not None:
        level, name = found.terms
        return f"{name} ({found.moved}) moved with {level}: the change may be that of either"
    if not found.effects:
        return f"whether {listed(found.terms)} act on each other cannot be seen"
    return confounded_text(found.effects)


def limited(lines: list[str], detail: bool) -> list[str]:
    """The first lines, and how many more there are, unless all are wanted."""
    if detail or len(lines) <= _MOST_PARTS:
        return lines
    return [*lines[:_MOST_PARTS], f"{len(lines) - _MOST_PARTS} more: ferocal factors --detail"]


def confounded_text(effects: Sequence[Term]) -> str:
    """What always came together, as a sentence without its remedy."""
    if len(effects) == 1:
        return f"{effects[0].text} was never measured in common rounds with the others"
    factors = list(dict.fromkeys(f for term in effects for f in term.factors))
    if len(factors) == len(effects) and all(len(term.levels) == 1 for term in effects):
        pairs = zip(factors, effects, strict=True)
        named = listed([f"{factor} ({term.levels[0][1]})" for factor, term in pairs])
        return f"{named} always changed together: their effects cannot be told apart"
    return f"the effects of {listed([term.text for term in effects])} cannot be told apart"
