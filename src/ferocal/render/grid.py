"""A grid: metrics in rows, configurations in columns, folded where it does not fit."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ferocal.render.console import Text

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series

_ARROWS = {
    "higher": "\N{UPWARDS ARROW}",
    "lower": "\N{DOWNWARDS ARROW}",
    "none": " ",
}
_ARROW_WORDS = {"higher": "higher", "lower": "lower", "none": ""}
_DIGITS = str.maketrans("0123456789", "⁰¹²³⁴⁵⁶⁷⁸⁹")
_GAP = "  "
_INDENT = "  "
# A grid with more rows is a wall: what it says is counted instead.
MOST_ROWS = 32


@dataclass(frozen=True)
class Shape:
    """How a grid is written: in how many columns, and whether in words instead of signs."""

    width: int
    words: bool = False

    @property
    def primary(self) -> str:
        """What marks a primary metric."""
        return "*" if self.words else "\N{BULLET}"


@dataclass(frozen=True)
class GridCell:
    """A cell in the pieces that are aligned: a number, what goes with it, a sign, marks."""

    number: str = ""
    rest: str = ""
    sign: str = ""
    mark: str = ""
    style: str = ""


@dataclass(frozen=True)
class GridRow:
    """A line of a grid; one without cells is a heading, and of no series."""

    label: str
    unit: str = ""
    arrow: str = ""
    base: str = ""
    cells: Mapping[str, GridCell] = field(default_factory=dict)
    series: Series | None = None


@dataclass(frozen=True)
class Base:
    """A column before the others: its head, and what stands below that."""

    head: str
    below: str


class Footnotes:
    """Notes below a table, numbered in the order in which they are referred to."""

    def __init__(self, *, words: bool) -> None:
        self._texts: list[str] = []
        self._words = words

    def mark(self, text: str) -> str:
        """The mark of a note; the same text has the same one."""
        if text not in self._texts:
            self._texts.append(text)
        return self._sign(self._texts.index(text) + 1)

    def _sign(self, number: int) -> str:
        return f"[{number}]" if self._words else str(number).translate(_DIGITS)

    @property
    def lines(self) -> list[str]:
        """The notes with their marks."""
        return [f"{self._sign(n)} {text}" for n, text in enumerate(self._texts, 1)]


def mixes_roles(series: Sequence[Series]) -> bool:
    """Whether primary metrics stand among others, so that they have to be marked."""
    return {"primary"} < {s.role for s in series}


def arrange(
    series: Sequence[Series],
    shape: Shape,
    cells_of: Callable[[Series], tuple[str, Mapping[str, GridCell]]],
    marks_of: Callable[[str], str] = lambda workload: "",
) -> Iterator[GridRow]:
    """Rows for metrics, under headings for groups and for workloads with several of them.

    ``cells_of`` gives what stands in the column of the base, and the cells; ``marks_of`` the
    marks of a workload.
    """
    group = workload = ""
    counts = Counter(s.workload for s in series)
    mixed = mixes_roles(series)
    for s in series:
        alone = counts[s.workload] == 1
        if s.group != group:
            yield GridRow(f"— {s.group} —" if s.group else "")
        if s.workload != workload and not alone:
            yield GridRow(s.workload + marks_of(s.workload))
        group, workload = s.group, s.workload
        label = _INDENT * (1 + s.depth) + (s.label or s.metric)
        if alone:
            label = s.title + marks_of(s.workload)
        if mixed and s.role == "primary" and s.workload:
            label += f" {shape.primary}"
        base, cells = cells_of(s)
        arrows = _ARROW_WORDS if shape.words else _ARROWS
        yield GridRow(label, s.unit if s.workload else "", arrows[s.better], base, cells, s)


def lay_out(
    rows: Sequence[GridRow], heads: Mapping[str, str], shape: Shape, base: Base | None = None
) -> Iterator[Text]:
    """The lines of a grid in as many blocks as it takes to fit the width, never cut.

    ``heads`` are those of the columns, by the names that the cells have.
    """
    columns = {
        name: _Column(head, [r.cells[name] for r in rows if r.cells])
        for name, head in heads.items()
    }
    left = _Left(rows, base)
    widest = max(column.width for column in columns.values()) + len(_GAP)
    if left.width + widest > shape.width:
        yield from _stack(rows, columns, base)
        return
    whole = left.width + sum(column.width + len(_GAP) for column in columns.values())
    fitting = (shape.width - left.width) // widest
    blocks = 1 if whole <= shape.width else -(-len(columns) // fitting)
    size = -(-len(columns) // blocks)
    for start in range(0, len(columns), size):
        if start:
            yield Text("")
        chosen = list(columns)[start : start + size]
        yield from _write(rows, left, {name: columns[name] for name in chosen})


class _Column:
    """The widths of a column, and its cells in them."""

    def __init__(self, head: str, cells: Sequence[GridCell]) -> None:
        self.head = head
        full = [c for c in cells if c.rest or c.sign]
        self._number = max((len(c.number) for c in full), default=0)
        self._rest = max((len(c.rest) for c in full), default=0)
        self._sign = max((len(c.sign) for c in full), default=0)
        self._mark = max((len(c.mark) for c in full), default=0)
        own = self._number + self._rest + self._sign + self._mark + 2 * bool(full)
        alone = max((len(c.number + c.mark) for c in cells if c not in full), default=0)
        self.width = max(own, alone, len(head))

    def write(self, cell: GridCell) -> Text:
        if not (cell.rest or cell.sign):
            return Text((cell.number + cell.mark).rjust(self.width))
        number = f"{cell.number:>{self._number}} {cell.rest:<{self._rest}} "
        sign = f"{cell.sign:<{self._sign}}"
        text = Text(number.rjust(self.width - self._sign - self._mark))
        text.append(sign, cell.style)
        return text.append(f"{cell.mark:<{self._mark}}")


class _Left:
    """Label, unit, direction and baseline of every row."""

    def __init__(self, rows: Sequence[GridRow], base: Base | None) -> None:
        full = [r for r in rows if r.cells]
        self.base = base
        self._label = max((len(r.label) for r in full), default=0)
        self._unit = max((len(r.unit) for r in full), default=0)
        self._arrow = max((len(r.arrow) for r in full), default=0)
        self._base = 0
        if base is not None:
            heads = (len(base.head), len(base.below))
            self._base = len(_GAP) + max(*heads, *(len(r.base) for r in full))
        self.width = self._label + self._unit + self._arrow + 2 * len(_GAP) + self._base

    def write(self, row: GridRow) -> Text:
        if not row.cells:
            return Text(row.label, "bold")
        label = f"{row.label:<{self._label}}"
        rest = f"{_GAP}{row.unit:<{self._unit}}{_GAP}{row.arrow:<{self._arrow}}"
        base = "" if self.base is None else f"{row.base:>{self._base}}"
        # A label that stands for its workload is as bold as the headings.
        style = "" if row.label.startswith(" ") else "bold"
        return Text.assemble((label, style), rest, base)


def _write(rows: Sequence[GridRow], left: _Left, columns: Mapping[str, _Column]) -> list[Text]:
    """A block of the table: heads, and a line for each row."""
    base = left.base
    head = Text((base.head if base else "").rjust(left.width), "bold")
    for column in columns.values():
        head.append(_GAP + column.head.rjust(column.width))
    lines = [head]
    if base is not None and base.below:
        lines.append(Text(base.below.rjust(left.width), "dim"))
    for row in rows:
        line = left.write(row)
        for name, column in columns.items():
            if row.cells:
                line.append(_GAP).append(column.write(row.cells[name]))
        line.rstrip()
        lines.append(line)
    return lines


def _stack(
    rows: Sequence[GridRow], columns: Mapping[str, _Column], base: Base | None
) -> Iterator[Text]:
    """For a very narrow terminal: each row as a few lines."""
    for row in rows:
        yield Text(" ".join(filter(None, (row.label, row.unit, row.arrow))), "bold")
        if row.cells and base is not None:
            yield Text(f"{_INDENT}{base.head} {row.base}")
        for name, column in columns.items() if row.cells else ():
            cell, text = row.cells[name], Text(f"{_INDENT}{column.head} ")
            words = (cell.number, cell.rest, cell.sign)
            yield text.append(" ".join(filter(None, words)) + cell.mark, cell.style)
