"""The report: the documents of all questions, then what was measured and how."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.contrasts import Method
from ferocal.documents.across import across_document
from ferocal.documents.blocks import (
    Block,
    Document,
    Heading,
    Items,
    Line,
    Next,
    make_table,
    sentences,
)
from ferocal.documents.changes import criteria_text, study_text
from ferocal.documents.chart import chart_document
from ferocal.documents.claims import claims_document
from ferocal.documents.compare import comparison_document, detail_blocks
from ferocal.documents.factors import factors_document
from ferocal.documents.rank import ranking_document
from ferocal.documents.references import references_document
from ferocal.documents.remarks import corrected_lines
from ferocal.documents.runs import note_text, set_aside_lines
from ferocal.documents.series import series_document
from ferocal.documents.table import table_document
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.report import Procedure, Report


def report_document(report: Report) -> Document:
    """Everything of a study in one document."""
    blocks: list[Block] = list(_without_next(comparison_document(report.comparison)))
    for title, make in PARTS:
        document = make(report)
        if document is not None and document.blocks:
            blocks += [Heading(title), *_deeper(_without_next(document))]
    return Document(report.comparison.question, tuple(blocks))


# The parts of a report after the comparison, where the study has something for them.
PARTS: tuple[tuple[str, Callable[[Report], Document | None]], ...] = (
    ("Claims", lambda r: claims_document(r.claims, detail=True) if r.claims else None),
    ("Factors", lambda r: factors_document(r.factors) if r.factors else None),
    ("Chart", lambda r: chart_document(r.charts) if r.charts else None),
    ("Releases", lambda r: series_document(r.series) if r.series else None),
    ("Benches", lambda r: across_document(r.across) if r.across else None),
    ("Ranking", lambda r: ranking_document(r.ranking, detail=True) if r.ranking else None),
    ("Published results", lambda r: references_document(r.references) if r.references else None),
    ("All effects", lambda r: Document("", tuple(_effects(r)))),
    ("Readings", lambda r: table_document(r.table)),
    ("Configurations", lambda r: Document("", tuple(_configurations(r)))),
    ("Hardware", lambda r: Document("", tuple(_hardware(r)))),
    ("Procedure", lambda r: Document("", tuple(_procedure(r, r.procedure)))),
    ("Notes", lambda r: Document("", tuple(_notes(r)))),
)


def _without_next(document: Document) -> Iterator[Block]:
    """What is read on a page, where no command follows."""
    return (block for block in document.blocks if not isinstance(block, Next))


def _deeper(blocks: Iterable[Block]) -> Iterator[Block]:
    """Blocks of a document that is a part of another one."""
    for block in blocks:
        yield Heading(block.text, block.level + 1) if isinstance(block, Heading) else block


def _effects(report: Report) -> Iterator[Block]:
    benches = report.comparison.benches
    for bench in benches:
        yield from [Heading(f"bench {bench}")] if len(benches) > 1 else []
        yield from detail_blocks(report.comparison.on_bench(bench))


def _hardware(report: Report) -> Iterator[Block]:
    for bench in report.comparison.benches:
        yield Heading(f"bench {bench}")
        facts = [Line(value, name) for _, name, value in report.facts[bench]]
        yield Items(tuple((fact, ()) for fact in facts))


def _notes(report: Report) -> Iterator[Block]:
    notes = [f"{at[:10]}, {note_text(note)}" for at, note in report.procedure.notes]
    if notes:
        yield _list("", notes)


def _configurations(report: Report) -> Iterator[Block]:
    baseline = report.comparison.baseline
    yield Items(
        tuple(
            (
                Line(
                    ", ".join(f"{factor} = {level}" for factor, level in levels.items()),
                    f"{name} (baseline)" if name == baseline else name,
                ),
                (),
            )
            for name, levels in report.configurations
        )
    )


def _procedure(report: Report, procedure: Procedure) -> Iterator[Block]:
    """How it was measured, and what of it does not count."""
    yield sentences(
        [
            _extent(procedure),
            *_origin(procedure),
            *_order(procedure),
            *method_lines(report.comparison.effects),
            *_left_out(report),
        ]
    )
    yield from _lists(
        {
            "Corrected readings": corrected_lines(report.comparison.corrected),
            "Visits that do not count (a check failed)": set_aside_lines(procedure.set_aside),
        }
    )
    count = "round" if procedure.in_rounds else "visits"
    for bench, order in procedure.order.items():
        several = f" to {bench}" if len(procedure.order) > 1 else ""
        yield make_table(
            (count, f"order of the visits{several}"),
            [[str(number), " → ".join(names)] for number, names in order],
            right=(count,),
        )
    yield from _lists(
        {
            "Checks that held": [f"{x}: {what}, held {n} times" for x, what, n in procedure.checks],
            "Runs without valid readings": [
                f"{f.configuration}, {f.workload}"
                + (f", round {f.round}" if f.round is not None else "")
                + f": {f.outcome}, {f.reason or ''}"
                for f in procedure.failures
            ],
            "Remarks while measuring": procedure.remarks,
        }
    )


def _extent(procedure: Procedure) -> str:
    """How many runs there are, and from when, as far as it is known."""
    outcomes = ", ".join(f"{n} {outcome}" for outcome, n in procedure.outcomes.items())
    total = counted(sum(procedure.outcomes.values()), "run")
    low, high = procedure.runs_per_visit or (0, 0)
    each = (
        "no runs" if not high else counted(low, "run") if low == high else f"{low} to {high} runs"
    )
    text = f"{total} ({outcomes}), {each} per workload and visit"
    if procedure.began is None or procedure.ended is None:
        return f"{text} (times unknown)." if procedure.undated else f"{text}."
    text += f", from {_minute(procedure.began)} to {_minute(procedure.ended)}"
    undated = counted(procedure.undated, "visit")
    return f"{text}, and {undated} of unknown date." if procedure.undated else f"{text}."


def _minute(time: str) -> str:
    return time[:16].replace("T", " ") + " UTC"


def _origin(procedure: Procedure) -> Iterator[str]:
    """How the runs came into the ledger."""
    words = {"measure": "measured by Ferocal", "enter": "typed", "load": "imported from files"}
    known = procedure.sources
    parts = [f"{known[kind]} {word}" for kind, word in words.items() if known.get(kind)]
    if parts:
        yield f"Origin: {listed(parts)}."


def _order(procedure: Procedure) -> Iterator[str]:
    """How the visits were ordered, where Ferocal has ordered them."""
    if not procedure.order:
        return
    if not procedure.in_rounds:
        yield "Configurations were measured one after the other, so drift is part of every change."
        return
    text = f"Rounds were planned in mirrored pairs, shuffled with seed {procedure.seed}."
    if split := procedure.split:
        whole = counted(procedure.rounds, "round")
        text += f" {split} of {whole} {be(split)} split: interrupted, and resumed later."
    if (looks := procedure.looks) is not None:
        seen = f"after rounds {', '.join(map(str, looks))}" if looks else "not yet"
        text += f" Sequential design: looks {seen}."
    yield text


_METHODS = {
    Method.PAIRED: "paired by round (mean difference, Student's t interval)",
    Method.VISITS: "between visits (difference of means, Welch's t interval)",
    Method.FLOOR: "from single visits, with an interval from a noise floor",
    Method.STATED: "from single visits, with an interval from stated noise",
    Method.BOUND: "where one side is a bound",
    Method.NONE: "seen once (no interval, no verdict)",
}


def method_lines(effects: Sequence[Effect]) -> Iterator[str]:
    """By which methods the effects were judged, and how many by each."""
    counts = Counter(effect.method for effect in effects)
    for method, text in _METHODS.items():
        if counts[method]:
            yield f"{counts[method]} of {len(effects)} effects: {text}."
    if not all(math.isnan(effect.p_adjusted) for effect in effects):
        yield "p-values are adjusted by Holm's method."


def _left_out(report: Report) -> Iterator[str]:
    comparison = report.comparison
    if excluded := comparison.excluded:
        yield f"{counted(excluded, 'run')} {be(excluded)} excluded."
    for change in comparison.criteria_changes:
        yield f"Criteria changed: {criteria_text(change)}."
    for other in comparison.study_changes:
        yield f"Changed since measuring began: {study_text(other)}."


def _lists(found: dict[str, list[str]]) -> Iterator[Items]:
    return (_list(title, texts) for title, texts in found.items() if texts)


def _list(title: str, texts: Iterable[str]) -> Items:
    return Items(tuple((Line(text), ()) for text in texts), title)
