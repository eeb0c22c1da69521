"""The first screen of a report: the answer, what limits it most, and the overview or chart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from ferocal.documents.blocks import (
    Block,
    Caveats,
    Chart,
    Document,
    Grid,
    GridCell,
    Heading,
    Items,
    Line,
    Lines,
    Place,
    Table,
)
from ferocal.terms.wording import counted

# So many caveats stand above the overview, with these marks at what they are about.
_MARKS = "ab"
# Of more claims these are named on the first screen.
_MOST_CLAIMS = 3


def lead_blocks(lead: Document, claims: Document | None, *, overview: bool) -> Iterator[Block]:
    """Claims where there are any, the answer, the gravest caveats, and the overview or chart."""
    if claims is not None:
        yield _claims_in_short(claims)
    yield from _answers(lead)
    shown = list(_overviews(lead)) if overview else []
    places = {cell.place for cell in _cells(shown)} - {None}
    lines = _gravest(lead)
    marks = iter(_MARKS)
    marked = [
        replace(line, mark=next(marks)) if _is_about_some(line, places) else line
        for line in lines[: len(_MARKS)]
    ]
    if marked:
        rest = len(lines) - len(marked)
        more = [Line(f"{counted(rest, 'more caveat')} below")] if rest else []
        yield Caveats((*marked, *more))
    doubted = [line for line in marked if line.mark]
    yield from (_with_marks(block, doubted) for block in shown)


def rest_of_lead(lead: Document) -> Iterator[Block]:
    """What the first screen does not show of what leads."""
    shown = {id(block) for block in _overviews(lead)}
    shown |= {id(b) for b in lead.blocks if isinstance(b, Caveats) or _is_answer(b)}
    left = [block for block in lead.blocks if id(block) not in shown]
    if any(not isinstance(block, Heading) for block in left):
        yield from left


def _is_answer(block: Block) -> bool:
    return isinstance(block, Lines) and block.role == "answer"


def _claims_in_short(claims: Document) -> Lines:
    """How many claims hold, and the first of them with their verdicts."""
    headline = next(line for b in claims.blocks if isinstance(b, Lines) for line in b.lines)
    items = [line for b in claims.blocks if isinstance(b, Items) for line, _ in b.items]
    rest = len(items) - _MOST_CLAIMS
    more = [Line(counted(rest, "more claim"))] if rest > 0 else []
    return Lines((headline, *items[:_MOST_CLAIMS], *more), "answer")


def _answers(lead: Document) -> Iterator[Block]:
    """The answer on every bench, each under its name where there are several."""
    heading: Heading | None = None
    for block in lead.blocks:
        if isinstance(block, Heading):
            heading = block
        elif isinstance(block, Lines) and _is_answer(block):
            named = () if heading is None else (Line("", f"{heading.text}"),)
            yield replace(block, lines=(*named, *block.lines))
            heading = None


def _overviews(lead: Document) -> Iterator[Block]:
    """The chart of what leads, or its first table for every bench, under the bench's name."""
    charts = [block for block in lead.blocks if isinstance(block, Chart)]
    if charts:
        yield charts[0]
        return
    heading: Heading | None = None
    taken = False
    for block in lead.blocks:
        if isinstance(block, Heading):
            heading, taken = block, False
        elif isinstance(block, (Grid, Table)) and not taken:
            yield from [] if heading is None else [heading]
            yield block
            taken = True


def _gravest(lead: Document) -> list[Line]:
    """The caveats of what leads, the gravest of every bench first."""
    found = [block.lines for block in lead.blocks if isinstance(block, Caveats)]
    longest = max(map(len, found), default=0)
    in_turn = (lines[n] for n in range(longest) for lines in found if n < len(lines))
    return list(dict.fromkeys(in_turn))


def _is_about_some(line: Line, places: set[Place | None]) -> bool:
    """Whether a caveat is about some of the cells that are shown, and not about all."""
    return bool(line.places & places) and not places <= line.places


def _cells(blocks: Iterable[Block]) -> Iterator[GridCell]:
    for block in blocks:
        if isinstance(block, Grid):
            yield from (cell for row in block.rows for cell in row.cells.values())


def _with_marks(block: Block, lines: Sequence[Line]) -> Block:
    """A grid with the marks of the caveats at the cells that they are about."""
    if not isinstance(block, Grid) or not lines:
        return block
    rows = tuple(
        replace(row, cells={name: _marked(cell, lines) for name, cell in row.cells.items()})
        for row in block.rows
    )
    return replace(block, rows=rows)


def _marked(cell: GridCell, lines: Sequence[Line]) -> GridCell:
    marks = "".join(line.mark for line in lines if cell.place in line.places)
    return replace(cell, doubts=marks) if marks else cell
