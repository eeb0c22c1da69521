"""What factors do: a line for each level, the overview, the parts of a whole change."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.verdicts import CHANGED
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
    Place,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.factor_lines import (
    heading_of,
    inseparable_text,
    interaction_sentences,
    level_lines,
    limited,
    part_lines,
    scaling_tables,
    serial_lines,
)
from ferocal.documents.grids import STATED_NOTE, arrange, change_cell, meanings
from ferocal.documents.numbers import (
    change_text,
    interval_text,
    margin_text,
    percent,
)
from ferocal.documents.remarks import remark_lines
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.factors.results import (
        FactorEffect,
        IndexPart,
    )
    from ferocal.answers.factors import BenchFactors, FactorsAnswer

# Of more, what decides is shown, and the rest with --detail.
_MOST_NAMED = 4
_MOST_SENTENCES = 3
# Of more metrics those that change most are shown, so many of them.
_MOST_METRICS, _MOST_SHOWN = 20, 12
_MOST_REMARKS = 6
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
    yield from scaling_tables(bench.scaling)
    parts = part_lines(bench.decomposition, detail=detail)
    scaling = limited([x for s in bench.scaling for x in serial_lines(s)], detail)
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
    # What cannot be told apart is told with its remedy.
    whole = remark_lines(answer, told=("several-factors",)) if bench is answer.benches[-1] else []
    return [*remarks_of(bench, detail=detail), *whole]


def _overview(bench: BenchFactors, answer: FactorsAnswer, *, detail: bool) -> Grid:
    """Metrics in rows, levels in columns."""
    known = {(e.series, e.factor, e.level): e for e in bench.effects if not e.is_between}
    series = list(dict.fromkeys(e.series for e in bench.effects))
    left = series if detail or len(series) <= _MOST_METRICS else _largest(bench.effects)
    columns = {f"{f}={v}": (f, v) for f, levels in bench.factors.items() for v in levels[1:]}

    def cells(s: Series) -> tuple[GridCell, dict[str, GridCell]]:
        place = Place(bench.bench, s.workload, s.metric) if s.workload else None
        found = {name: known.get((s, *column)) for name, column in columns.items()}
        return GridCell(), {name: _cell(effect, place) for name, effect in found.items()}

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


def _cell(effect: FactorEffect | None, place: Place | None) -> GridCell:
    if effect is None:
        return GridCell("not measured")
    if effect.judged is None:
        return GridCell("unknown", notes=("it always changed together with others",))
    notes: tuple[str, ...] = ()
    if effect.together:
        notes = (f"together with {listed(list(effect.together))}",)
    if effect.judged.method is Method.STATED:
        notes += (STATED_NOTE,)
    return change_cell(effect.judged, notes, place, effect.judged.method)


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
