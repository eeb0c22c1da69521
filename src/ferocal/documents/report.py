"""The report: the documents of all questions, then what was measured and how."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING

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
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
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
    outcomes = ", ".join(f"{n} {outcome}" for outcome, n in procedure.outcomes.items())
    total = counted(sum(procedure.outcomes.values()), "run")
    yield sentences(
        [
            f"{total} ({outcomes}), {procedure.runs_per_visit} per workload and visit"
            f"{procedure.when}.",
            *procedure.design,
            *_left_out(report),
        ]
    )
    yield from _lists(
        {
            "Corrected readings": corrected_lines(report.comparison.corrected),
            "Visits that do not count (a check failed)": set_aside_lines(procedure.set_aside),
        }
    )
    for bench, order in procedure.order.items():
        several = f" to {bench}" if len(procedure.order) > 1 else ""
        yield make_table(
            (procedure.order_title, f"order of the visits{several}"),
            [[str(number), " → ".join(names)] for number, names in order],
            right=(procedure.order_title,),
        )
    checks = [f"{level}: {what}, held {n} times" for level, what, n in procedure.checks]
    yield from _lists(
        {
            "Checks that held": checks,
            "Runs without valid readings": procedure.failures,
            "Remarks while measuring": procedure.remarks,
        }
    )


def _left_out(report: Report) -> Iterator[str]:
    comparison = report.comparison
    if excluded := comparison.excluded:
        yield f"{counted(excluded, 'run')} {be(excluded)} excluded."
    for change in comparison.criteria_changes:
        yield f"Criteria changed: {change.text}."
    for other in comparison.study_changes:
        yield f"Changed since measuring began: {other.text}."


def _lists(found: dict[str, list[str]]) -> Iterator[Items]:
    return (_list(title, texts) for title, texts in found.items() if texts)


def _list(title: str, texts: Iterable[str]) -> Items:
    return Items(tuple((Line(text), ()) for text in texts), title)
