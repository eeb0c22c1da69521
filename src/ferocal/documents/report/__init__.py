"""The report: what leads, then the documents of all questions, then what was measured and how."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from typing import TYPE_CHECKING

from ferocal.documents.across import across_document
from ferocal.documents.blocks import (
    Block,
    Caveats,
    Chart,
    Details,
    Document,
    Heading,
    Items,
    Lines,
    Next,
    Section,
    caveats,
    sentences,
)
from ferocal.documents.chart import chart_document
from ferocal.documents.claims import claims_document
from ferocal.documents.compare import (
    caveat_items,
    comparison_document,
    effects_table,
    gap_lines,
)
from ferocal.documents.factors import factors_document
from ferocal.documents.rank import ranking_document
from ferocal.documents.references import references_document
from ferocal.documents.report.lead import lead_blocks, rest_of_lead
from ferocal.documents.report.methods import methods_blocks
from ferocal.documents.report.procedure import (
    left_out_blocks,
    notes_blocks,
    procedure_blocks,
    provenance_blocks,
)
from ferocal.documents.report.readings import conditions_table, readings_blocks
from ferocal.documents.series import series_document
from ferocal.documents.since import since_blocks
from ferocal.documents.traces import traces_document
from ferocal.errors import UsageError
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.answers.report import Report
    from ferocal.answers.traces import TraceAnswer


@dataclass(frozen=True)
class Part:
    """A section of a report: its name in options and links, its title, and what is in it."""

    key: str
    title: str
    make: Callable[[Report], Iterable[Block]]


def report_document(
    report: Report,
    *,
    only: Collection[str] = (),
    without: Collection[str] = (),
    title: str = "",
    author: str = "",
) -> Document:
    """Everything of a study in one document: the answer first, then a section for every question.

    ``only`` and ``without`` name sections; the answer and its gravest caveats are always there.
    """
    lead = lead_document(report)
    wanted = [p for p in PARTS if (not only or p.key in only) and p.key not in without]
    # What leads has its overview on the first screen, and no longer in its section.
    overview = (not only or {OVERVIEW, report.lead} & set(only)) and OVERVIEW not in without
    claims = claims_document(report.claims) if report.claims else None
    blocks: list[Block] = list(lead_blocks(lead, claims, overview=bool(overview)))
    for part in wanted:
        made = tuple(_of_page(part.make(report)))
        if made:
            blocks.append(Section(part.key, part.title, made))
    return Document(title or lead.question, tuple(blocks), author)


def check_sections(names: Iterable[str]) -> None:
    """Check the names of sections.

    Raises
    ------
    UsageError
        When one is unknown; the message has the closest one.
    """
    for name in names:
        if name not in SECTIONS:
            raise UsageError(f'no section "{name}" in a report; {closest(name, SECTIONS)}')


def lead_document(report: Report) -> Document:
    """The document of the question that a report begins with."""
    return _LEADS[report.lead](report)


def _series(report: Report) -> Document:
    assert report.series is not None
    return series_document(report.series)


def _ranking(report: Report) -> Document:
    assert report.ranking is not None
    return ranking_document(report.ranking, detail=True)


def _factors(report: Report) -> Document:
    assert report.factors is not None
    return factors_document(report.factors)


_LEADS: dict[str, Callable[[Report], Document]] = {
    "comparison": lambda report: comparison_document(report.comparison),
    "series": _series,
    "ranking": _ranking,
    "factors": _factors,
}


def _question(name: str) -> Callable[[Report], Iterable[Block]]:
    """The document of a question; of that which leads, what the first screen leaves."""

    def make(report: Report) -> Iterable[Block]:
        there = name == "comparison" or getattr(report, name) is not None
        if not there:
            return ()
        document = _LEADS[name](report)
        return rest_of_lead(document) if report.lead == name else document.blocks

    return make


def _caveats(report: Report) -> Iterator[Block]:
    """All caveats of what leads, and every caveat of a comparison with what to do about it."""
    lead = lead_document(report)
    lines = dict.fromkeys(
        line for block in lead.blocks if isinstance(block, Caveats) for line in block.lines
    )
    if lines:
        yield Items(tuple((line, ()) for line in lines))
    comparison = report.comparison
    for bench in comparison.benches:
        part = comparison.on_bench(bench)
        items = tuple(caveat_items(part, part.effects))
        on = f" on {bench}" if len(comparison.benches) > 1 else ""
        if items:
            yield Details(f"every caveat{on}, where it was seen, and what to do", items)


def _effects(report: Report) -> Iterator[Block]:
    """Every effect with its interval, folded by workload."""
    comparison = report.comparison
    for bench in comparison.benches:
        part = comparison.on_bench(bench)
        on = f" on {bench}" if len(comparison.benches) > 1 else ""
        for workload in dict.fromkeys(e.series.workload for e in part.effects):
            own = [e for e in part.effects if e.series.workload == workload]
            table = effects_table(own, part.confidence, part.baseline)
            yield Details(f"{workload}{on}: {counted(len(own), 'effect')}", (table,))
        if gaps := gap_lines(part.gaps, part.baseline):
            yield sentences(gaps)


def _traces(kind: str) -> Callable[[Report], Iterable[Block]]:
    def make(report: Report) -> Iterator[Block]:
        for answer in report.traces:
            if answer.kind.name == kind:
                yield from _with_conditions(report, answer)

    return make


def _with_conditions(report: Report, answer: TraceAnswer) -> Iterator[Block]:
    """What traces say beyond the overview, with their curves and the conditions beneath."""
    for block in traces_document(answer).blocks:
        if isinstance(block, Caveats) or (isinstance(block, Lines) and block.role == "answer"):
            continue
        yield block
        if isinstance(block, Chart):
            place = (block.data.bench, block.data.metric.workload)
            yield from conditions_table(report.conditions.get(place, {}))


def _of_page(blocks: Iterable[Block]) -> Iterator[Block]:
    """Blocks of a document that is a part of another one, where no command follows.

    Caveats of comparisons are in their own section.
    """
    for block in blocks:
        if isinstance(block, Heading):
            yield Heading(block.text, block.level + (block.level == 2))
        elif isinstance(block, Caveats):
            yield from caveats(line for line in block.lines if not line.places)
        elif not isinstance(block, Next):
            yield block


def _claims(report: Report) -> Iterable[Block]:
    return claims_document(report.claims, detail=True).blocks if report.claims else ()


def _charts(report: Report) -> Iterable[Block]:
    return chart_document(report.charts).blocks if report.charts else ()


def _across(report: Report) -> Iterable[Block]:
    return across_document(report.across).blocks if report.across else ()


def _references(report: Report) -> Iterable[Block]:
    return references_document(report.references).blocks if report.references else ()


# What the first screen shows beneath the answer, as it is called in options.
OVERVIEW = "overview"
# The sections of a report, where the study has something for them.
PARTS: tuple[Part, ...] = (
    Part("since", "What changed", lambda r: since_blocks(r.since) if r.since else ()),
    Part("caveats", "Caveats", _caveats),
    Part("claims", "Claims", _claims),
    Part("comparison", "Comparison", _question("comparison")),
    Part("factors", "Factors", _question("factors")),
    Part("series", "Releases", _question("series")),
    Part("ranking", "Ranking", _question("ranking")),
    Part("references", "Published results", _references),
    Part("chart", "All metrics in one chart", _charts),
    Part("benches", "Benches", _across),
    Part("frames", "Frame times", _traces("frames")),
    Part("soak", "Soaks", _traces("soak")),
    Part("effects", "All effects", _effects),
    Part("notes", "Notes", notes_blocks),
    Part("procedure", "How it was measured", procedure_blocks),
    Part("left-out", "What does not count", left_out_blocks),
    Part("readings", "Readings", readings_blocks),
    Part("methods", "Methods", methods_blocks),
    Part("provenance", "Provenance", provenance_blocks),
)
SECTIONS = (OVERVIEW, *(part.key for part in PARTS))
