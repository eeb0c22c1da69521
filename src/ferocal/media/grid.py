"""A grid in a terminal: folded into blocks where it does not fit, never cut."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from ferocal.documents.blocks import Grid, GridCell, Row
from ferocal.media.console import Text
from ferocal.media.signs import VERDICT_STYLES, Signs
from ferocal.terms.frozen import dataclass

_GAP = "  "
_INDENT = "  "


@dataclass(frozen=True)
class _Written:
    """A cell in the pieces that are aligned."""

    number: str
    rest: str
    sign: str
    mark: str
    style: str


@dataclass(frozen=True)
class _Line:
    """A row with its pieces; one without cells is a heading."""

    label: str
    unit: str
    arrow: str
    base: str
    cells: Mapping[str, _Written]
    bold: bool


def grid_lines(grid: Grid, width: int, *, words: bool) -> list[Text]:
    """The rows of a grid, what its signs mean, and its footnotes, line by line."""
    signs = Signs(words=words)
    columns = {name: name + signs.marks(notes) for name, notes in grid.columns.items()}
    rows = [_line(row, signs) for row in grid.rows]
    head, below = ("", "")
    if grid.base is not None:
        head, below = grid.base.head + signs.marks(grid.base.notes), grid.base.below
    left = _Left(rows, head, below, based=grid.base is not None)
    return [
        *_lay_out(rows, columns, left, width),
        *(Text(line, "dim") for line in _legend(grid, signs, width)),
        *(Text(line, "dim") for line in signs.footnotes),
    ]


def _line(row: Row, signs: Signs) -> _Line:
    label = signs.label(row, _INDENT * row.depth + row.label)
    base = row.base.text + signs.marks(row.base.notes)
    cells = {name: _written(cell, signs) for name, cell in row.cells.items()}
    return _Line(label, row.unit, signs.arrow(row.better), base, cells, not row.depth)


def _written(cell: GridCell, signs: Signs) -> _Written:
    style = "bold" if cell.strong else ""
    if cell.verdict is not None:
        style = VERDICT_STYLES[cell.verdict]
    return _Written(cell.number, cell.rest, signs.of(cell), signs.marks(cell.notes), style)


def _legend(grid: Grid, signs: Signs, width: int) -> list[str]:
    left = (", " if signs.words else "  ").join(signs.meanings(grid))
    gap = width - len(left) - len(grid.evidence)
    if left and grid.evidence and gap >= 2:
        both = [left + " " * min(gap, 8) + grid.evidence]
    else:
        both = [line for line in (left, grid.evidence) if line]
    return [*both, *([grid.below] if grid.below else [])]


def _lay_out(
    rows: Sequence[_Line], heads: Mapping[str, str], left: _Left, width: int
) -> Iterator[Text]:
    """The lines in as many blocks as it takes to fit the width."""
    columns = {
        name: _Column(head, [r.cells[name] for r in rows if r.cells])
        for name, head in heads.items()
    }
    widest = max((column.width for column in columns.values()), default=0) + len(_GAP)
    if left.width + widest > width:
        yield from _stack(rows, columns, left)
        return
    whole = left.width + sum(column.width + len(_GAP) for column in columns.values())
    fitting = (width - left.width) // widest
    blocks = 1 if whole <= width else -(-len(columns) // fitting)
    size = max(1, -(-len(columns) // blocks))
    for start in range(0, max(1, len(columns)), size):
        if start:
            yield Text("")
        chosen = list(columns)[start : start + size]
        yield from _write(rows, left, {name: columns[name] for name in chosen})


class _Column:
    """The widths of a column, and its cells in them."""

    def __init__(self, head: str, cells: Sequence[_Written]) -> None:
        self.head = head
        full = [c for c in cells if c.rest or c.sign]
        self._number = max((len(c.number) for c in full), default=0)
        self._rest = max((len(c.rest) for c in full), default=0)
        self._sign = max((len(c.sign) for c in full), default=0)
        self._mark = max((len(c.mark) for c in full), default=0)
        own = self._number + self._rest + self._sign + self._mark + 2 * bool(full)
        alone = max((len(c.number + c.mark) for c in cells if c not in full), default=0)
        self.width = max(own, alone, len(head))

    def write(self, cell: _Written) -> Text:
        if not (cell.rest or cell.sign):
            return Text((cell.number + cell.mark).rjust(self.width))
        number = f"{cell.number:>{self._number}} {cell.rest:<{self._rest}} "
        sign = f"{cell.sign:<{self._sign}}"
        text = Text(number.rjust(self.width - self._sign - self._mark))
        text.append(sign, cell.style)
        return text.append(f"{cell.mark:<{self._mark}}")


class _Left:
    """Label, unit, direction and baseline of every row."""

    def __init__(self, rows: Sequence[_Line], head: str, below: str, *, based: bool) -> None:
        full = [r for r in rows if r.cells]
        self.head, self.below, self.based = head, below, based
        self._label = max((len(r.label) for r in full), default=0)
        self._unit = max((len(r.unit) for r in full), default=0)
        self._arrow = max((len(r.arrow) for r in full), default=0)
        self._base = 0
        if based:
            self._base = len(_GAP) + max(len(head), len(below), *(len(r.base) for r in full), 0)
        self.width = self._label + self._unit + self._arrow + len(_GAP) + 1 + self._base

    def write(self, row: _Line) -> Text:
        if not row.cells:
            return Text(row.label, "bold")
        label = f"{row.label:<{self._label}}"
        rest = f"{_GAP}{row.unit:<{self._unit}} {row.arrow:<{self._arrow}}"
        base = f"{row.base:>{self._base}}" if self.based else ""
        # A label that stands for its workload is as bold as the headings.
        return Text.assemble((label, "bold" if row.bold else ""), rest, base)


def _write(rows: Sequence[_Line], left: _Left, columns: Mapping[str, _Column]) -> list[Text]:
    """A block of the table: heads, and a line for each row."""
    head = Text(left.head.rjust(left.width), "bold")
    for column in columns.values():
        head.append(_GAP + column.head.rjust(column.width))
    lines = [head]
    if left.below:
        lines.append(Text(left.below.rjust(left.width), "dim"))
    for row in rows:
        line = left.write(row)
        for name, column in columns.items():
            if row.cells:
                line.append(_GAP).append(column.write(row.cells[name]))
        line.rstrip()
        lines.append(line)
    return lines


def _stack(rows: Sequence[_Line], columns: Mapping[str, _Column], left: _Left) -> Iterator[Text]:
    """For a very narrow terminal: each row as a few lines."""
    for row in rows:
        yield Text(" ".join(filter(None, (row.label, row.unit, row.arrow))), "bold")
        if row.cells and left.based:
            yield Text(f"{_INDENT}{left.head} {row.base}")
        for name, column in columns.items() if row.cells else ():
            cell, text = row.cells[name], Text(f"{_INDENT}{column.head} ")
            words = (cell.number, cell.rest, cell.sign)
            yield text.append(" ".join(filter(None, words)) + cell.mark, cell.style)
