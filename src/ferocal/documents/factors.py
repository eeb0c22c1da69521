"""What factors do: a line for each level, the overview, the parts of a whole change."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import share_of
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.documents.blocks import (
    Block,
    Details,
    Document,
    Grid,
    GridCell,
    Heading,
    Items,
    Line,
    Lines,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.grids import arrange, change_cell, meanings
from ferocal.documents.numbers import (
    change_decimals,
    change_text,
    interval_shape,
    interval_text,
    margin_text,
    percent,
)
from ferocal.documents.remarks import remark_lines
from ferocal.plan.separation import confounded_text
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.factors.results import (
        Decomposition,
        FactorEffect,
        IndexPart,
        Interaction,
        Judged,
        Scaling,
    )
    from ferocal.answers.factors import BenchFactors, FactorsAnswer, Inseparable

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


def factors_document(answer: FactorsAnswer, *, detail: bool = False) -> Document:
    """What each level does, which interact, and what cannot be told apart."""
    blocks: list[Block] = []
    for bench in answer.benches:
        if len(answer.benches) > 1:
            blocks.append(Heading(f"bench {bench.bench}"))
        blocks += _bench_blocks(answer, bench, detail=detail)
    return Document(answer.question, (*blocks, next_steps(*_next(answer.benches))))


def _bench_blocks(answer: FactorsAnswer, bench: BenchFactors, *, detail: bool) -> Iterator[Block]:
    if not bench.effects:
        yield sentences(["No factor has been measured at more than one level yet."])
        yield from caveats(_remarks(answer, bench, detail=detail))
        return
    found = list(interaction_sentences(bench.interactions))
    shown = found if detail else found[:_MOST_SENTENCES]
    if len(shown) < len(found):
        more = counted(len(found) - len(shown), "more interaction")
        shown.append(f"{more}: ferocal factors --detail")
    lines = [Line(text, head) for head, text in level_lines(bench)]
    yield Lines((*lines, *map(Line, shown)), "answer")
    yield _overview(bench, answer, detail=detail)
    parts = part_lines(bench.decomposition, detail=detail)
    scaling = _limited([x for s in bench.scaling for x in scaling_lines(s)], detail)
    for heading, rows in ((heading_of(bench.decomposition), parts), ("scaling", scaling)):
        if rows:
            yield Items(tuple((Line(row), ()) for row in rows), heading)
    further = tuple(_detail_blocks(bench))
    if detail:
        yield from further
    elif further:
        yield Details("all interactions, and the parts of the index", further)
    yield from caveats(_remarks(answer, bench, detail=detail))


def _remarks(answer: FactorsAnswer, bench: BenchFactors, *, detail: bool) -> list[str | Line]:
    """What is to be known of a bench; of the ledger as a whole with the last one."""
    whole = remark_lines(answer) if bench is answer.benches[-1] else []
    return [*remarks_of(bench, detail=detail), *whole]


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
    if any(not math.isnan(i.judged.p_value) for i in interactions) and not groups:
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


def _overview(bench: BenchFactors, answer: FactorsAnswer, *, detail: bool) -> Grid:
    """Metrics in rows, levels in columns."""
    known = {(e.series, e.factor, e.level): e for e in bench.effects}
    series = list(dict.fromkeys(e.series for e in bench.effects))
    left = series if detail or len(series) <= _MOST_METRICS else _largest(bench.effects)
    columns = {f"{f}={v}": (f, v) for f, levels in bench.factors.items() for v in levels[1:]}

    def cells(s: Series) -> tuple[GridCell, dict[str, GridCell]]:
        return GridCell(), {name: _cell(known.get((s, *place))) for name, place in columns.items()}

    below = ""
    if len(left) < len(series):
        below = f"largest changes; {len(series) - len(left)} more: ferocal factors --detail"
    present = (e.judged.verdict for e in bench.effects if e.judged is not None)
    return Grid(
        tuple(arrange(left, cells)),
        dict.fromkeys(columns, ()),
        None,
        meanings(present, margin_text(answer.margin)),
        f"averaged over the other factors; {100 * answer.confidence:.4g} % intervals",
        below,
    )


def _largest(effects: Sequence[FactorEffect]) -> list[Series]:
    """The index, and the metrics that some level changes most, in their order."""
    size: dict[Series, float] = {}
    for e in effects:
        shown = e.judged is not None and e.judged.verdict in CHANGED and e.judged.scale == "ratio"
        change = abs(e.judged.mean) if shown and e.judged is not None else 0.0
        size[e.series] = max(size.get(e.series, 0.0), change if e.series.workload else math.inf)
    chosen = sorted(size, key=lambda series: -size[series])[:_MOST_SHOWN]
    return [series for series in size if series in chosen]


def _cell(effect: FactorEffect | None) -> GridCell:
    if effect is None:
        return GridCell("not measured")
    if effect.judged is None:
        return GridCell("unknown", notes=("it always changed together with others",))
    notes = (f"together with {listed(list(effect.together))}",) if effect.together else ()
    return change_cell(effect.judged, notes)


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


def _detail_blocks(bench: BenchFactors) -> Iterator[Block]:
    """Intervals of all interactions, and what every workload does in the index."""
    if bench.interactions:
        rows: list[Sequence[str | GridCell]] = [
            [
                f"{i.factor}={i.level} × {i.other}={i.other_level}",
                i.series.title,
                change_text(i.judged),
                interval_text(i.judged),
                GridCell(str(i.judged.verdict), verdict=i.judged.verdict),
            ]
            for i in bench.interactions
        ]
        yield make_table(("interaction", "metric", "beyond both", "95 % interval", "verdict"), rows)
    for (factor, level), parts in bench.index_parts.items():
        if parts:
            yield _parts_table(f"{factor}={level}", parts)


def _parts_table(name: str, parts: Sequence[IndexPart]) -> Table:
    rows = [
        [
            part.workload,
            percent(part.weight),
            change_text(part.own),
            "–" if part.without is None else change_text(part.without),
        ]
        for part in sorted(parts, key=lambda part: -abs(part.weight * part.own.mean))
    ]
    return make_table((f"index, {name}", "weight", "its gain", "index without it"), rows)


def remarks_of(bench: BenchFactors, *, detail: bool) -> list[str]:
    """What cannot be told apart first, then what else bears on the figures."""
    remarks = [
        f"{inseparable_text(c)}; "
        + (f"measure {c.separate}" if c.separate else "no configuration can tell")
        for c in bench.confounded
    ]
    remarks += _blind_lines(bench)
    lacking = [x for x in bench.lack_of_fit if x.p_value < 0.05]
    if lacking:
        names = [x.series.title for x in lacking[:_MOST_NAMED]]
        others = len(lacking) - len(names)
        where = ", ".join(names) + (f" and {others} more" if others else "")
        used = all(x.used for x in lacking)
        what = "intervals allow for it" if used else "intervals may be too narrow"
        text = f"{_LACK}: {where}; {what}; see each configuration with ferocal compare"
        remarks.append(text)
    if bench.left_out:
        names = [f"{name} ({reason})" for name, reason in bench.left_out]
        shown = names if detail else names[:_MOST_NAMED]
        more = f" and {len(names) - len(shown)} more" if len(shown) < len(names) else ""
        remarks.append(f"left out: {', '.join(shown)}{more}")
    if bench.not_in_index:
        names = [s.title for s in bench.not_in_index]
        named = ", ".join(names[:_MOST_NAMED])
        remarks.append(f"not in the index (missing somewhere, or may be zero): {named}")
    if not bench.in_rounds:
        text = "no common rounds: these figures include anything else that changed with time"
        remarks.append(text)
    if not bench.visits_known:
        text = "visits are unknown: each reading counts as one, so intervals may be too narrow"
        remarks.append(text)
    if bench.bounds:
        verb = "is a bound" if bench.bounds == 1 else "are bounds"
        remarks.append(f"{counted(bench.bounds, 'reading')} {verb} and left out of averages")
    if detail or len(remarks) <= _MOST_REMARKS:
        return remarks
    rest = len(remarks) - _MOST_REMARKS
    return [*remarks[:_MOST_REMARKS], f"{counted(rest, 'more')}: ferocal factors --detail"]


def inseparable_text(found: Inseparable) -> str:
    """What cannot be told apart, as a sentence without its remedy."""
    if found.moved is not None:
        level, name = found.terms
        return f"{name} ({found.moved}) moved with {level}: the change may be that of either"
    if not found.effects:
        return f"whether {listed(found.terms)} act on each other cannot be seen"
    return confounded_text(found.effects)


def _blind_lines(bench: BenchFactors) -> Iterator[str]:
    """Of which factors nothing shows whether they act on each other, and what would."""
    if bench.blind:
        pairs = [" and ".join(c.terms) for c in bench.blind]
        shown = pairs if len(pairs) <= _MOST_NAMED else [*pairs[:_MOST_NAMED], "others"]
        text = f"interactions of {', or '.join(shown)} cannot be estimated"
        first = next((c for c in bench.blind if c.separate), None)
        if first is not None and len(pairs) == 1:
            text += f"; measure {first.separate}"
        elif first is not None:
            text += f"; measuring {first.separate} would show that of {' and '.join(first.terms)}"
        yield text


def _next(benches: Sequence[BenchFactors]) -> Iterator[tuple[str, str | None]]:
    if any(c.levels for b in benches for c in b.confounded):
        yield (
            "the fewest configurations that separate all factors",
            "ferocal plan --design separate",
        )
    else:
        yield "single configurations against the baseline", "ferocal compare"
