"""Where in a grid its table stands: titles, header, body, sections, and what is told below it."""

from __future__ import annotations

import functools
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import field

from ferocal.errors import IntakeError
from ferocal.intake.delimited import MOST_NAMED, NO_READINGS, refusal
from ferocal.intake.tables.grids import Cell, Grid
from ferocal.intake.tables.words import HeaderCell, is_compared, role_by_name, unit_of
from ferocal.intake.typed import FOOTNOTE, TypedError, parse_mark, unit_in
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import counted, shortened

_FOOTNOTE = re.compile(rf"\s*(?P<sign>{FOOTNOTE}|\d\))\s*(?P<text>\S.*)")


def is_reading(cell: Cell) -> bool:
    """Whether a cell is a number, or a text that is a reading."""
    return not isinstance(cell, str) or _is_reading(cell)


def is_value(cell: Cell) -> bool:
    """Whether a cell is a reading, or what stands for none."""
    return not isinstance(cell, str) or _is_reading(cell) or _is_mark(cell)


# Tables are looked at from several sides, and most texts in them recur.
@functools.lru_cache(maxsize=2**17)
def _is_reading(text: str) -> bool:
    return bool(text) and unit_in(text) is not None


@functools.lru_cache(maxsize=2**17)
def _is_mark(text: str) -> bool:
    try:
        return parse_mark(text) is not None
    except TypedError:
        return True


@dataclass(frozen=True)
class Header:
    """What stands above a column: what stands over several, its name, and a unit below it."""

    top: str
    name: str
    unit: str = ""

    @property
    def text(self) -> str:
        """Both names, as messages have them."""
        return " / ".join(filter(None, (self.top, self.name)))


@dataclass
class Layout:
    """Rows of a grid by what they are, as places in it.

    ``section_of`` has, for rows of the body, the text of the row that heads them. ``footnotes``
    are texts by sign, ``remarks`` other lines below the table.
    """

    grid: Grid
    headers: list[Header]
    header_rows: list[int]
    body: list[int]
    titles: list[str]
    section_of: dict[int, str] = field(default_factory=dict)
    footnotes: dict[str, str] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    doubts: list[tuple[str, str]] = field(default_factory=list)

    def column(self, place: int) -> list[Cell]:
        """The cells of a column in the rows of the body."""
        return [self.grid.cells[row][place] for row in self.body]


def find_layout(grid: Grid, header: int | None) -> Layout:
    """The layout of a grid; ``header`` is the number of its header row, where that is stated.

    Raises
    ------
    IntakeError
        When there is no header, or no row below it, or rows are of other lengths.
    """
    grid = _without_empty_columns(grid)
    if not grid.cells:
        raise IntakeError(f"{grid.where}: is empty")
    first = _header_row(grid, header)
    rows = _header_rows(grid, first)
    body, below = _body(grid, rows[-1] + 1)
    layout = Layout(grid, _headers(grid, rows), rows, body, _titles(grid, rows[0]))
    _take_below(layout, below)
    _take_sections(layout)
    if not layout.body:
        raise IntakeError(f"{grid.where}: {NO_READINGS}")
    _check_lengths(layout)
    if header is None and _looks_like_body(layout):
        shown = ", ".join(str(cell) for cell in grid.cells[rows[-1]] if cell != "")
        layout.doubts.append(
            (f'{grid.place(rows[-1])} has no names of columns ("{shortened(shown, 50)}")',
             f"write a header above the rows, or --header {grid.numbers[rows[-1]]} if it is one")
        )  # fmt: skip
    return layout


def _without_empty_columns(grid: Grid) -> Grid:
    """The grid without columns in which nothing stands; those of merged areas stay."""
    used = (
        [any(row[n] != "" for row in grid.cells) for n in range(len(grid.cells[0]))]
        if grid.cells
        else []
    )
    if all(used):
        return grid
    last = max((n for n, some in enumerate(used) if some), default=-1)
    inside = {n for _, _, left, right in grid.merged for n in range(left, right + 1)}
    if all(some or n > last or n in inside for n, some in enumerate(used)) or grid.lengths:
        width = last + 1
        cells = [row[:width] for row in grid.cells]
        lengths = tuple(min(length, width) if length > width else length for length in grid.lengths)
        return Grid(grid.path, grid.name, grid.word, cells, grid.numbers, grid.merged,
                    grid.formulas, lengths)  # fmt: skip
    kept = [n for n, some in enumerate(used) if some or n in inside]
    moved = {old: new for new, old in enumerate(kept)}
    merged = tuple(
        (top, bottom, moved[left], moved[right])
        for top, bottom, left, right in grid.merged
        if left in moved and right in moved
    )
    formulas = frozenset((row, moved[n]) for row, n in grid.formulas if n in moved)
    cells = [[row[n] for n in kept] for row in grid.cells]
    return Grid(grid.path, grid.name, grid.word, cells, grid.numbers, merged, formulas)


def _filled(row: Sequence[Cell]) -> list[int]:
    return [n for n, cell in enumerate(row) if cell != ""]


def _header_row(grid: Grid, stated: int | None) -> int:
    """The place of the row with the names of the columns, the last of them if there are two."""
    if stated is not None:
        if stated not in grid.numbers:
            raise IntakeError(
                f"{grid.where}: --header {stated}: nothing stands in that {grid.word}"
            )
        return grid.numbers.index(stated)
    filled = [_filled(row) for row in grid.cells]
    with_numbers = [
        len(places)
        for row, places in zip(grid.cells, filled, strict=True)
        if any(is_value(row[n]) for n in places)
    ]
    if not with_numbers:
        return 0
    counts = Counter(with_numbers)
    width = max(counts, key=lambda w: (counts[w], w))
    least = min(width, max(2, width - 1) if width < 4 else width - width // 4)
    enough = [n for n, places in enumerate(filled) if len(places) >= least]
    body = next((n for n in enough if _is_data(grid.cells[n])), len(grid.cells))
    names = [n for n in enough if n < body]
    if not names:
        return enough[0] if enough else 0
    return next((n for n in names if not _is_parted(grid, n, names[-1])), names[-1])


def _is_parted(grid: Grid, first: int, last: int) -> bool:
    """Whether an empty row lies between two rows."""
    apart = grid.numbers[last] - grid.numbers[first] > last - first
    return apart or any(not _filled(grid.cells[n]) for n in range(first, last))


def _is_data(row: Sequence[Cell]) -> bool:
    """Whether a row holds readings rather than names; years and releases may be names."""
    cells = [cell for cell in row if cell != ""]
    beside = cells[1:] or cells
    return any(is_reading(cell) for cell in beside) and not _names_known(cells)


def _names_known(cells: Sequence[Cell]) -> bool:
    return any(
        isinstance(cell, str) and (role_by_name(cell) is not None or is_compared(cell))
        for cell in cells
    )


def _header_rows(grid: Grid, first: int) -> list[int]:
    """The rows of the header: one over several columns, the names, and units below these."""
    rows = [first]
    cells = grid.cells
    above = first - 1
    if above >= 0 and _stands_over(grid, above, first):
        rows.insert(0, above)
    below = first + 1
    if below + 1 < len(cells) and len(rows) == 1 and _is_second(grid, first, below):
        rows.append(below)
        below += 1
    if below + 1 < len(cells) and _are_units(cells[below]):
        rows.append(below)
    return rows


def _stands_over(grid: Grid, above: int, names: int) -> bool:
    """Whether a row has what stands over several columns of the next."""
    top = _filled(grid.cells[above])
    if grid.numbers[names] - grid.numbers[above] > 1 or not top:
        return False
    if any(row == above and right > left for row, _, left, right in grid.merged):
        return not (len(top) == 1 and top[0] == 0)  # a title may be merged, too
    over = [n for n in top if n > 0]
    return len(over) >= 2 and _repeats(grid, names, over[0])


def _repeats(grid: Grid, row: int, first: int) -> bool:
    """Whether names of columns occur again from a place on."""
    names = [HeaderCell.of(str(cell)).name for cell in grid.cells[row][first:] if cell != ""]
    return len(set(names)) < len(names)


def _is_second(grid: Grid, first: int, below: int) -> bool:
    """Whether a row has the names of columns, below what stands over several of them."""
    top, second = grid.cells[first], grid.cells[below]
    values = [
        n for n in range(1, len(top)) if any(is_value(row[n]) for row in grid.cells[below + 1 :])
    ]
    if not values or any(is_value(second[n]) for n in values) or _are_units(second):
        return False
    names = [top[n] for n in values]
    again = len({name for name in names if name != ""}) < len([n for n in names if n != ""])
    return all(second[n] != "" for n in values) and (again or "" in names)


def _are_units(row: Sequence[Cell]) -> bool:
    cells = [str(cell).strip("()[] ") for cell in row if cell != ""]
    return bool(cells) and all(unit_of(cell) is not None for cell in cells)


def _headers(grid: Grid, rows: list[int]) -> list[Header]:
    """What stands above every column; what stands over several is told of each."""
    cells = [[str(cell).strip() for cell in grid.cells[row]] for row in rows]
    units = [""] * len(cells[0])
    if len(rows) > 1 and _are_units(grid.cells[rows[-1]]):
        units = [unit_of(cell.strip("()[] ")) or "" for cell in cells.pop()]
    names = cells[-1]
    if len(cells) == 1:
        return [Header("", name, unit) for name, unit in zip(names, units, strict=True)]
    top, last = [], ""
    for n, (cell, name) in enumerate(zip(cells[0], names, strict=True)):
        last = cell or (last if n and name else "")
        top.append(last)
    # Over a single column, the upper of two rows may have its only name.
    return [
        Header(over, name, unit) if name else Header("", over, unit)
        for over, name, unit in zip(top, names, units, strict=True)
    ]


def _titles(grid: Grid, first: int) -> list[str]:
    return [
        " ".join(str(cell) for cell in row if cell != "") for row in grid.cells[:first] if any(row)
    ]


def _body(grid: Grid, first: int) -> tuple[list[int], list[int]]:
    """The rows of the body, and those below it."""
    rows = [n for n in range(first, len(grid.cells)) if any(c != "" for c in grid.cells[n])]
    last = len(rows)
    width = len(grid.cells[0]) if grid.cells else 0
    while last and width > 1 and _is_below(grid, rows, last - 1):
        last -= 1
    return rows[:last], rows[last:]


def _is_below(grid: Grid, rows: list[int], place: int) -> bool:
    """Whether a row is a line below the table: one text, and a gap or a sign before it."""
    row = rows[place]
    cells = [cell for cell in grid.cells[row] if cell != ""]
    if len(cells) != 1 or not isinstance(cells[0], str) or is_reading(cells[0]):
        return False
    before = grid.numbers[rows[place - 1]] if place else grid.numbers[row] - 1
    gap = grid.numbers[row] - before > 1
    return gap or _FOOTNOTE.fullmatch(cells[0]) is not None or _has_gap_above(grid, rows, place)


def _has_gap_above(grid: Grid, rows: list[int], place: int) -> bool:
    """Whether only single texts stand between a row and a gap above it."""
    while place > 0 and len(_filled(grid.cells[rows[place]])) == 1:
        if grid.numbers[rows[place]] - grid.numbers[rows[place - 1]] > 1:
            return True
        place -= 1
    return False


def _take_below(layout: Layout, below: list[int]) -> None:
    """Footnotes and remarks."""
    for row in below:
        text = next(str(cell) for cell in layout.grid.cells[row] if cell != "")
        match = _FOOTNOTE.fullmatch(text)
        if match:
            layout.footnotes[match["sign"]] = match["text"].strip()
        else:
            layout.remarks.append(text)


def _take_sections(layout: Layout) -> None:
    """Rows with a text in their first column only head those that follow; a header may recur."""
    cells, names = layout.grid.cells, layout.grid.cells[layout.header_rows[-1]]
    body, section = [], ""
    whole = layout.grid.lengths
    for row in layout.body:
        places = _filled(cells[row])
        full = not whole or whole[row] >= len(names)
        if places == [0] and full and len(names) > 2 and not is_reading(cells[row][0]):
            section = str(cells[row][0])
        elif cells[row] != names:
            body.append(row)
            if section:
                layout.section_of[row] = section
    layout.body = body


def _check_lengths(layout: Layout) -> None:
    """Refuse rows with more or fewer cells than the header, whose cells may have moved."""
    grid = layout.grid
    if not grid.lengths:
        return
    width = max(grid.lengths[row] for row in layout.header_rows)
    wrong = [row for row in layout.body if not _fits(grid, row, width)]
    if wrong:
        lines = [
            f"  {grid.place(row)}: has {counted(grid.lengths[row], 'column')}, not {width}"
            for row in wrong[:MOST_NAMED]
        ]
        raise refusal(grid.path, lines, len(wrong))


def _fits(grid: Grid, row: int, width: int) -> bool:
    extra = grid.cells[row][width:]
    return grid.lengths[row] == width or (
        grid.lengths[row] > width and all(cell == "" for cell in extra)
    )


def _looks_like_body(layout: Layout) -> bool:
    """Whether the header rather is the first row of readings."""
    row = layout.grid.cells[layout.header_rows[-1]]
    return _is_data(row)
