"""What factors do, as text: a line for each level, the overview, the parts of a whole change."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.data.series import share_of
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.render.console import Text, fold_with, plain_words, room, show_beside
from ferocal.render.grid import Footnotes, GridCell, Shape, arrange, lay_out
from ferocal.render.numbers import (
    change_and_half,
    change_decimals,
    change_text,
    interval_shape,
    interval_text,
    margin_text,
    percent,
)
from ferocal.render.tables import plain_table
from ferocal.render.wording import VERDICT_SIGNS, VERDICT_STYLES, VERDICT_WORDS
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.attribution.results import (
        Decomposition,
        FactorEffect,
        IndexPart,
        Interaction,
        Judged,
        Scaling,
    )
    from ferocal.analysis.data.series import Series
    from ferocal.answers.factors import BenchFactors, FactorsAnswer

# Of more, what decides is shown, and the rest with --detail.
_MOST_NAMED = 4
_MOST_SENTENCES = 3
# Of more metrics those that change most are shown, so many of them.
_MOST_METRICS, _MOST_SHOWN = 20, 12
_MOST_PARTS = 6
_MOST_REMARKS = 6
# What the parts leave of a whole change is said from a thousandth on.
_REST = 1e-3
_SPOKEN = (*CHANGED, Verdict.EQUIVALENT, Verdict.INCONCLUSIVE, Verdict.SEEN_ONCE)
_WITH_CHANGE = (*CHANGED, Verdict.SEEN_ONCE)
_LACK = "the factors do not add up (lack of fit)"


def show_factors(console: Console, answer: FactorsAnswer, *, detail: bool = False) -> None:
    """Print what each level does, which act on each other, and what cannot be told apart."""
    console.print(answer.question, style="bold", end="\n\n")
    for number, bench in enumerate(answer.benches):
        if len(answer.benches) > 1:
            console.print(f"{chr(10) if number else ''}bench {bench.bench}", style="bold")
        _show_bench(console, answer, bench, detail=detail)
    steps = list(_next(answer.benches))
    show_beside(console, "next", [x for s in steps for x in fold_with(*s, room(console))])


def _show_bench(
    console: Console, answer: FactorsAnswer, bench: BenchFactors, *, detail: bool
) -> None:
    if not bench.effects:
        console.print("Nothing that varies was measured with more than one level yet.\n")
        show_beside(console, "mind", remarks_of(bench, detail=detail))
        return
    lines = list(level_lines(bench))
    margin = max(len(head) for head, _ in lines) + 2
    for head, text in lines:
        show_beside(console, head, [text], margin=margin)
    sentences = [*interaction_sentences(bench.interactions)]
    shown = sentences if detail else sentences[:_MOST_SENTENCES]
    for sentence in shown:
        show_beside(console, "", [sentence], margin=0)
    if len(shown) < len(sentences):
        console.print(
            f"{len(sentences) - len(shown)} more act on each other: ferocal factors --detail"
        )
    console.print()
    shape = Shape(console.width, words=plain_words(console))
    for line in _overview(bench, shape, answer, detail=detail):
        console.print(line, soft_wrap=True)
    console.print()
    for heading, rows in (
        (heading_of(bench.decomposition), part_lines(bench.decomposition, detail=detail)),
        ("scaling", _limited([x for s in bench.scaling for x in scaling_lines(s)], detail)),
    ):
        if rows:
            console.print(heading, style="bold")
            for row in rows:
                show_beside(console, "", [row], margin=2)
            console.print()
    if detail:
        _show_detail(console, bench)
    show_beside(console, "mind", remarks_of(bench, detail=detail))


def level_lines(bench: BenchFactors) -> Iterator[tuple[str, str]]:
    """For every level what it makes better and worse, and what it leaves as it is."""
    told: set[frozenset[str]] = set()
    for factor, levels in bench.factors.items():
        for level in levels[1:]:
            own = [e for e in bench.effects if (e.factor, e.level) == (factor, level)]
            # What came with it for a few metrics only stands below the table.
            together = list(own[0].together) if len({e.together for e in own}) == 1 else []
            members = frozenset([f"{factor}={level}", *together])
            if members in told:
                continue  # what always comes together is one line
            told.add(members)
            others = [t.partition(":")[0].replace("=", " ") for t in together]
            yield listed([f"{factor} {level}", *others]), _level_text(own)


def _level_text(effects: Sequence[FactorEffect]) -> str:
    index = next((e.judged for e in effects if not e.series.workload), None)
    metrics = [e.judged for e in effects if e.series.workload and e.judged is not None]
    if not metrics and index is None:
        return "not known: it always came with others"
    metrics.sort(key=lambda j: -abs(j.mean) if j.scale == "ratio" else 0.0)
    parts = []
    for verdict in _SPOKEN:
        names = [_named(j) for j in metrics if j.verdict is verdict]
        if names:
            rest = len(names) - _MOST_NAMED
            text = ", ".join(names[:_MOST_NAMED]) + (f", {rest} more" if rest > 0 else "")
            parts.append(f"{VERDICT_WORDS[verdict]}: {text}")
    if index is None:
        return "; ".join(parts)
    # Beside changes of times, which are better lower, its own direction has to be said.
    said = [] if index.verdict in CHANGED else [VERDICT_WORDS[index.verdict]]
    minds = ", ".join([*said, f"{index.series.better} is better"])
    return "; ".join([f"index {change_text(index)} ({minds})", *parts])


def _named(judged: Judged) -> str:
    title = judged.series.title
    return f"{title} {change_text(judged)}" if judged.verdict in _WITH_CHANGE else title


def interaction_sentences(interactions: Sequence[Interaction]) -> Iterator[str]:
    """What is shown to act on each other, the largest first, in words."""
    groups: dict[tuple[Series, str, str, str], list[Interaction]] = {}
    for i in interactions:
        if i.judged.verdict in CHANGED and i.series.workload:
            groups.setdefault((i.series, i.factor, i.level, i.other), []).append(i)
    if any(not math.isnan(i.judged.p_value) for i in interactions) and not groups:
        pairs = list(dict.fromkeys(f"{i.other} and {i.factor}" for i in interactions))
        which = f"{listed(pairs)} act" if len(pairs) <= 2 else "any two factors act"
        yield f"That {which} on each other is not shown."
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
        text = f"{first.level} does not do the same to {first.series.title} with {known}"
        return f"{text}; no change is shown alone"
    parts = [
        f"{verb} with {listed([f'{other} ({change_text(j)})' for j, other in by_verdict[verb]])}"
        for verb in shown
    ]
    text = f"{first.level} on {first.series.title} {', but '.join(parts)}"
    if not quiet:
        return text
    known = listed([f"{o} ({change_text(j)}, {VERDICT_WORDS[j.verdict]})" for j, o in quiet])
    return f"{text}, but not with {known}"


def _verb(judged: Judged) -> str:
    return {Verdict.BETTER: "gains", Verdict.WORSE: "loses"}.get(judged.verdict, "")


def _overview(
    bench: BenchFactors, shape: Shape, answer: FactorsAnswer, *, detail: bool
) -> Iterator[Text]:
    """Metrics in rows, levels in columns."""
    known = {(e.series, e.factor, e.level): e for e in bench.effects}
    series = list(dict.fromkeys(e.series for e in bench.effects))
    left = series if detail or len(series) <= _MOST_METRICS else _largest(bench.effects)
    columns = {f"{f}={v}": (f, v) for f, levels in bench.factors.items() for v in levels[1:]}
    notes = Footnotes(words=shape.words)

    def cells(s: Series) -> tuple[str, dict[str, GridCell]]:
        return "", {
            name: _cell(known.get((s, *place)), shape, notes) for name, place in columns.items()
        }

    rows = list(arrange(left, shape, cells))
    yield from lay_out(rows, {name: name for name in columns}, shape)
    if len(left) < len(series):
        text = f"those that change most; {len(series) - len(left)} more: ferocal factors --detail"
        yield Text(text, "dim")
    yield from _legend(bench.effects, shape, answer)
    yield from (Text(line, "dim") for line in notes.lines)


def _largest(effects: Sequence[FactorEffect]) -> list[Series]:
    """The index, and the metrics that some level changes most, in their order."""
    size: dict[Series, float] = {}
    for e in effects:
        shown = e.judged is not None and e.judged.verdict in CHANGED and e.judged.scale == "ratio"
        change = abs(e.judged.mean) if shown and e.judged is not None else 0.0
        size[e.series] = max(size.get(e.series, 0.0), change if e.series.workload else math.inf)
    chosen = sorted(size, key=lambda series: -size[series])[:_MOST_SHOWN]
    return [series for series in size if series in chosen]


def _cell(effect: FactorEffect | None, shape: Shape, notes: Footnotes) -> GridCell:
    if effect is None:
        return GridCell(number="not measured")
    if effect.judged is None:
        return GridCell(number="not known", mark=notes.mark("it always came with others"))
    mark = ""
    if effect.together:
        mark = notes.mark(f"with {listed(list(effect.together))}")
    signs = VERDICT_WORDS if shape.words else VERDICT_SIGNS
    verdict = effect.judged.verdict
    number, rest = change_and_half(effect.judged)
    return GridCell(number, rest, signs[verdict], mark, VERDICT_STYLES[verdict])


def _legend(effects: Sequence[FactorEffect], shape: Shape, answer: FactorsAnswer) -> Iterator[Text]:
    present = {e.judged.verdict for e in effects if e.judged is not None}
    words = {**VERDICT_WORDS, Verdict.EQUIVALENT: f"within {margin_text(answer.margin)}"}
    parts = [
        words[v] if shape.words else f"{sign} {words[v]}"
        for v, sign in VERDICT_SIGNS.items()
        if v in present and sign.strip()
    ]
    level = f"intervals {100 * answer.confidence:.4g} %"
    left, right = "  ".join(parts), f"averaged over the other factors; {level}"
    gap = shape.width - len(left) - len(right)
    lines = [left + " " * min(gap, 8) + right] if gap >= 2 else [left, right]
    yield from (Text(line, "dim") for line in lines)


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
    return _limited([part_line(part) for part in parts], detail)


def _limited(lines: list[str], detail: bool) -> list[str]:
    """The first lines, and how many more there are, unless all are wanted."""
    if detail or len(lines) <= _MOST_PARTS:
        return lines
    return [*lines[:_MOST_PARTS], f"{len(lines) - _MOST_PARTS} more: ferocal factors --detail"]


def part_line(part: Decomposition) -> str:
    """A whole change as the product, or the sum, of the parts of its factors."""
    ratio = part.total.scale == "ratio"
    joined = (" × " if ratio else " + ").join(
        f"{share.factor} {change_text(share.judged)}" for share in part.parts
    )
    text = f"{part.series.title}: {change_text(part.total)} = {joined}"
    if part.lacks and abs(part.rest) > _REST:
        rest = share_of(part.rest + part.total.mean) if ratio else part.rest + part.total.mean
        text += f"; measured as a whole {change_text(replace(part.total, change=rest))}"
    shares = [s.share for s in part.parts]
    # Of what may be noise no share is told.
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


def scaling_lines(scaling: Scaling) -> Iterator[str]:
    """Speed and efficiency with every amount of a resource, and the serial share."""
    title, factor = scaling.series.title, scaling.factor
    for step in scaling.steps:
        ideal = step.amount / scaling.least
        known = step.efficiency
        speed = significant(1 + step.speed.change, 3)
        reached = grouped(100 * (1 + known.change), change_decimals(known))
        half = _efficiency_interval(known)
        yield (
            f"{title}, {step.amount:g} {factor}: {speed} times as fast as with "
            f"{scaling.least:g} (ideal {ideal:g}); efficiency {reached}{half} %, "
            f"{change_text(known)} per unit of {factor}{'' if half else ', without an interval'}"
        )
    if scaling.serial is not None:
        share, width = 100 * scaling.serial.share, 100 * scaling.serial_half_width
        half = f" ±{significant(width, 2)}" if math.isfinite(width) else ""
        yield f"{title}: serial share {significant(share, 2)}{half} % (Amdahl)"


def _show_detail(console: Console, bench: BenchFactors) -> None:
    """Intervals of all interactions, and what every workload does in the index."""
    if bench.interactions:
        table = plain_table("interaction", "metric", "beyond both", "95 % interval", "verdict")
        for i in bench.interactions:
            name = f"{i.factor}={i.level} × {i.other}={i.other_level}"
            verdict = VERDICT_WORDS[i.judged.verdict]
            row = (name, i.series.title, change_text(i.judged), interval_text(i.judged), verdict)
            table.add_row(*row)
        console.print(table)
    for (factor, level), parts in bench.index_parts.items():
        if parts:
            console.print(_parts_table(f"{factor}={level}", parts))


def _parts_table(name: str, parts: Sequence[IndexPart]) -> object:
    table = plain_table(f"index, {name}", "weight", "its gain", "index without it")
    for part in sorted(parts, key=lambda part: -abs(part.weight * part.own.mean)):
        without = "–" if part.without is None else change_text(part.without)
        table.add_row(part.workload, percent(part.weight), change_text(part.own), without)
    return table


def remarks_of(bench: BenchFactors, *, detail: bool) -> list[str]:
    """What cannot be told apart first, then what else bears on the figures."""
    remarks = [
        f"{c.text}; " + (f"measure {c.separate}" if c.separate else "nothing possible would tell")
        for c in bench.confounded
    ]
    remarks += _blind_lines(bench)
    lacking = [x for x in bench.lack_of_fit if x.p_value < 0.05]
    if lacking:
        names = [x.series.title for x in lacking[:_MOST_NAMED]]
        others = len(lacking) - len(names)
        where = ", ".join(names) + (f" and {others} more" if others else "")
        used = all(x.used for x in lacking)
        what = "intervals are as wide as that" if used else "intervals may be too narrow"
        remarks.append(f"{_LACK}: {where}; {what}, see single configurations in ferocal compare")
    if bench.left_out:
        names = [f"{name} ({reason})" for name, reason in bench.left_out]
        shown = names if detail else names[:_MOST_NAMED]
        more = f" and {len(names) - len(shown)} more" if len(shown) < len(names) else ""
        remarks.append(f"left out: {', '.join(shown)}{more}")
    if bench.not_in_index:
        names = [s.title for s in bench.not_in_index]
        text = f"not in the index, for {'it' if len(names) == 1 else 'they'} {be(len(names))} "
        remarks.append(f"{text}missing somewhere or may be zero: {', '.join(names[:_MOST_NAMED])}")
    if not bench.in_rounds:
        text = "there are no common rounds, so that what else changed with time is in these figures"
        remarks.append(text)
    if not bench.visits_known:
        text = "which readings belong to one visit is not known: each counts as one, and intervals "
        remarks.append(f"{text}may be too narrow")
    if bench.bounds:
        verb = "is only a bound" if bench.bounds == 1 else "are only bounds"
        remarks.append(f"{counted(bench.bounds, 'reading')} {verb} and in no mean: ferocal compare")
    if detail or len(remarks) <= _MOST_REMARKS:
        return remarks
    rest = len(remarks) - _MOST_REMARKS
    return [*remarks[:_MOST_REMARKS], f"{counted(rest, 'more')}: ferocal factors --detail"]


def _blind_lines(bench: BenchFactors) -> Iterator[str]:
    """Of which factors nothing shows whether they act on each other, and what would."""
    if bench.blind:
        pairs = [" and ".join(c.terms) for c in bench.blind]
        shown = pairs if len(pairs) <= _MOST_NAMED else [*pairs[:_MOST_NAMED], "others"]
        text = f"whether {', or '.join(shown)} act on each other cannot be seen"
        first = next((c for c in bench.blind if c.separate), None)
        if first is not None and len(pairs) == 1:
            text += f"; measure {first.separate}"
        elif first is not None:
            text += f"; {first.separate} would show it of {' and '.join(first.terms)}"
        yield text


def _next(benches: Sequence[BenchFactors]) -> Iterator[tuple[str, str | None]]:
    if any(c.levels for b in benches for c in b.confounded):
        yield (
            "the fewest configurations that tell all factors apart",
            "ferocal plan --design separate",
        )
    else:
        yield "single configurations against the baseline", "ferocal compare"
