"""Blocks: what documents are made of, and all that the writers of media know.

A block holds texts, numbers and verdicts. Widths, folding, signs or words for verdicts, and colours
are the writers' work.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field
from typing import Any, Literal, NamedTuple

from ferocal.analysis.inference.reach import Reach
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.terms.frozen import dataclass

# With more rows a grid is a wall: its verdicts are counted instead.
MOST_ROWS = 32


class Place(NamedTuple):
    """What a number is about: a metric on a bench, and a configuration where it is of one."""

    bench: str
    workload: str
    metric: str
    configuration: str = ""

    @property
    def anchor(self) -> str:
        """Where on a page its runs are; the same for the same names."""
        return ":".join(filter(None, ("runs", *self)))


@dataclass(frozen=True)
class Line:
    """A sentence, with an optional bold head and the command that belongs to it.

    ``shorter`` are variants in fewer words, for a line that is too narrow; ``verdict`` colours the
    head. No line is broken within one of the names in ``together``. ``linked`` are phrases of the
    text with what their numbers are about. A caveat is about the cells in ``places``, and has a
    ``mark`` where these have it too.
    """

    text: str
    head: str = ""
    command: str | None = None
    shorter: tuple[str, ...] = ()
    verdict: Verdict | None = None
    together: tuple[str, ...] = ()
    linked: tuple[tuple[str, Place], ...] = ()
    places: frozenset[Place] = frozenset()
    mark: str = ""


@dataclass(frozen=True)
class Heading:
    """The title of what follows: level 2 for a part of a page, 3 for a part of that."""

    text: str
    level: int = 2


@dataclass(frozen=True)
class Lines:
    """Sentences: the answer, a paragraph, or notes below something."""

    lines: tuple[Line, ...]
    role: Literal["answer", "text", "note"] = "text"


@dataclass(frozen=True)
class GridCell:
    """A cell of a grid or a table: a number, its half-width or spread, a verdict, footnotes.

    ``sign`` replaces that of the verdict, such as the mark of the best in a row. ``shorter``
    replaces the number where a table would not fit. ``place`` is what the number is about, and
    ``method`` names how it was judged. The ``strip`` is drawn on a page. ``doubts`` are the marks
    of caveats about it. Links lead to a cell by its ``anchor``, and from it to ``leads_to``.
    """

    number: str = ""
    rest: str = ""
    verdict: Verdict | None = None
    sign: str = ""
    notes: tuple[str, ...] = ()
    strip: Reach | None = None
    strong: bool = False
    shorter: str = ""
    place: Place | None = None
    method: str = ""
    doubts: str = ""
    anchor: str = ""
    leads_to: str = ""

    @property
    def text(self) -> str:
        """Number and half-width, for media that align neither."""
        return " ".join(filter(None, (self.number, self.rest)))


@dataclass(frozen=True)
class Row:
    """A row of a grid; one without cells is a heading.

    ``alone`` is a metric whose label stands for its workload too; ``better`` says which way is.
    """

    label: str
    cells: Mapping[str, GridCell] = field(default_factory=dict)
    unit: str = ""
    better: Literal["higher", "lower", "none"] = "none"
    base: GridCell = GridCell()
    depth: int = 0
    alone: bool = False
    primary: bool = False
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Base:
    """A column before the others: its head, and what stands below that."""

    head: str
    below: str = ""
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Grid:
    """Metrics in rows, levels or configurations in columns, with a legend of the signs.

    ``columns`` maps each column's name to its footnotes. ``meanings`` explains verdicts or other
    signs, ``evidence`` says what the intervals are based on, ``below`` is a line under both.
    """

    rows: tuple[Row, ...]
    columns: Mapping[str, tuple[str, ...]]
    base: Base | None = None
    meanings: tuple[tuple[Verdict | str, str], ...] = ()
    evidence: str = ""
    below: str = ""


@dataclass(frozen=True)
class Column:
    """A column of a table; a ``whole`` one is never folded.

    A ``spare`` one is left out where the table would not fit. ``notes`` stand below the table
    where the column is shown.
    """

    head: str
    right: bool = False
    whole: bool = False
    spare: bool = False
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Table:
    """A table; its rows may be in groups, each under a line with its name."""

    columns: tuple[Column, ...]
    groups: tuple[tuple[Line | None, tuple[tuple[GridCell, ...], ...]], ...]
    caption: str = ""
    title: str = ""

    @property
    def rows(self) -> list[tuple[GridCell, ...]]:
        """The rows of all groups."""
        return [row for _, rows in self.groups for row in rows]


@dataclass(frozen=True)
class Chart:
    """A figure of a kind, and the result that it draws; ``alternative`` says what is on it.

    ``names`` tell the files of several charts of one document apart.
    """

    kind: str
    data: Any
    alternative: str = ""
    names: tuple[str, ...] = ()


@dataclass(frozen=True)
class Caveats:
    """What limits the result, the gravest first, ``most`` lines of it on a screen."""

    lines: tuple[Line, ...]
    most: int = 0
    look: str = ""


@dataclass(frozen=True)
class Next:
    """What to do next, with the commands that do it."""

    lines: tuple[Line, ...]


@dataclass(frozen=True)
class Items:
    """A list under a title; items may have items below them."""

    items: tuple[tuple[Line, tuple[Line, ...]], ...]
    title: str = ""


@dataclass(frozen=True)
class Code:
    """Lines to copy as they are."""

    text: str


@dataclass(frozen=True)
class Details:
    """What only a page has room for, folded away; ``anchor`` is where links to it lead."""

    summary: str
    blocks: tuple[Block, ...]
    anchor: str = ""


@dataclass(frozen=True)
class Section:
    """A part of a page under a title; ``key`` names it in links and options."""

    key: str
    title: str
    blocks: tuple[Block, ...]


Block = Heading | Lines | Grid | Table | Chart | Caveats | Next | Items | Code | Details | Section


@dataclass(frozen=True)
class Document:
    """What is said of a result: the question, and blocks; of a page also who wrote it."""

    question: str
    blocks: tuple[Block, ...]
    author: str = ""


def method_anchor(method: str) -> str:
    """Where on a page a method is described."""
    return f"method:{method.replace(' ', '-')}"


def run_anchor(run: str) -> str:
    """Where on a page a run is listed."""
    return f"run:{run}"


def sentences(texts: Iterable[str]) -> Lines:
    """Sentences as they are, a paragraph each."""
    return Lines(tuple(Line(text) for text in texts))


def make_table(
    columns: Sequence[str | Column],
    rows: Iterable[Sequence[str | GridCell]],
    *,
    right: Sequence[str] = (),
    caption: str = "",
    title: str = "",
) -> Table:
    """A table of texts and cells in one group; ``right`` are columns of numbers."""
    heads = tuple(c if isinstance(c, Column) else Column(c, c in right) for c in columns)
    made = tuple(tuple(c if isinstance(c, GridCell) else GridCell(c) for c in row) for row in rows)
    return Table(heads, ((None, made),), caption, title)


def caveats(texts: Iterable[str | Line], *, most: int = 0, look: str = "") -> list[Caveats]:
    """Caveats where there are some: a block, or none."""
    lines = tuple(x if isinstance(x, Line) else Line(x) for x in texts)
    return [Caveats(lines, most, look)] if lines else []


def next_steps(*steps: tuple[str, str | None]) -> Next:
    """Steps with their commands."""
    return Next(tuple(Line(text, command=command) for text, command in steps))
