"""Tables as they stand in a file: cells by row and place, and the numbers of the rows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from ferocal.errors import IntakeError
from ferocal.terms.frozen import dataclass

# A merged area: its first and last row and column, counted from 0.
Area = tuple[int, int, int, int]


Cell = str | int | float


@dataclass(frozen=True)
class Grid:
    """One table of a file: of rows of equal length, "" where nothing stands in a cell.

    ``name`` is that of the sheet or the heading, "" where there is one table only. ``numbers`` are
    those of the rows in the file, which calls them ``word``. ``merged`` areas hold the cell at
    their beginning; ``formulas`` are places whose formula was never computed. ``lengths`` are how
    many cells each row has in a file where that can differ.
    """

    path: Path
    name: str
    word: str
    cells: list[list[Cell]]
    numbers: list[int]
    merged: tuple[Area, ...] = ()
    formulas: frozenset[tuple[int, int]] = field(default_factory=frozenset)
    lengths: tuple[int, ...] = ()

    @property
    def where(self) -> str:
        """The file, with the sheet if it has several."""
        return f"{self.path}, {self.name}" if self.name else str(self.path)

    def place(self, row: int) -> str:
        """A row as people find it."""
        return f"{self.word} {self.numbers[row]}"


def make_grid(
    path: Path, name: str, word: str, rows: Iterable[tuple[int, Sequence[Any]]], **more: Any
) -> Grid:
    """A grid of rows with their numbers, all made as long as the longest."""
    cells: list[list[Cell]] = []
    numbers: list[int] = []
    for number, row in rows:
        cells.append([_cell(value) for value in row])
        numbers.append(number)
    width = max(map(len, cells), default=0)
    for row in cells:
        row.extend([""] * (width - len(row)))
    return Grid(path, name, word, cells, numbers, **more)


def _cell(value: Any) -> Cell:
    """A value as a cell: numbers as such, dates and durations as text, all else as text."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return str(value)
    if isinstance(value, (int, float)):
        return value
    if isinstance(value, datetime):
        midnight = value.hour == value.minute == value.second == value.microsecond == 0
        return value.date().isoformat() if midnight else value.isoformat()
    if isinstance(value, timedelta):
        seconds = value.total_seconds()
        return f"{int(seconds // 3600)}:{int(seconds % 3600 // 60):02}:{seconds % 60:02g}"
    if isinstance(value, time):
        return f"{value.hour}:{value.minute:02}:{value.second:02}"
    if isinstance(value, date):
        return value.isoformat()
    return str(value)


def stripped(value: Any) -> Any:
    """A text without the blanks around it; all else as it is."""
    return value.strip() if isinstance(value, str) else value


def grid_of_objects(
    path: Path, name: str, word: str, rows: Sequence[Mapping[str, Any]], numbers: Sequence[int]
) -> Grid:
    """Objects as a grid; what is nested in them has the names on the way to it.

    Several numbers of one name are repeats: they stand below that name, as run 1, 2 and so on.
    """
    flat = [_flattened(row) for row in rows]
    keys = list(dict.fromkeys(key for row in flat for key in row))
    repeats = any(number for _, number in keys)
    header = [[_leaf(key, keys) for key, _ in keys]]
    if repeats:
        header.append([f"run {number}" if number else _leaf(key, keys) for key, number in keys])
        header[0] = [_leaf(key, keys) if number else "" for key, number in keys]
    body = [[stripped(row.get(key)) for key in keys] for row in flat]
    lines = [*([0] * len(header)), *numbers]
    return make_grid(path, name, word, zip(lines, [*header, *body], strict=True))


_Key = tuple[tuple[str, ...], int]


def _flattened(row: Mapping[str, Any], above: tuple[str, ...] = ()) -> dict[_Key, Any]:
    """The values of an object by the names on the way to each, and which of several it is."""
    found: dict[_Key, Any] = {}
    for name, value in row.items():
        way = (*above, str(name))
        if isinstance(value, Mapping):
            found |= _flattened(value, way)
        elif isinstance(value, list) and value and all(_is_number(item) for item in value):
            found |= {(way, number): item for number, item in enumerate(value, 1)}
        else:
            found[way, 0] = value
    return found


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _leaf(way: tuple[str, ...], keys: Sequence[_Key]) -> str:
    """The last name on a way, or all of them where others end alike."""
    alike = {key for key, _ in keys if key[-1] == way[-1]}
    return way[-1] if len(alike) == 1 else " ".join(way)


def chosen(grids: Sequence[Grid], names: Sequence[str]) -> list[Grid]:
    """The tables of these names, all where none is named.

    Raises
    ------
    IntakeError
        When there is none of a name.
    """
    from ferocal.terms.names import closest, resolve

    if not names:
        return list(grids)
    known = {grid.name: grid for grid in grids}
    found = []
    for name in names:
        grid = known.get(resolve(name, known))
        if grid is None:
            path = grids[0].path
            if list(known) == [""]:
                raise IntakeError(f"{path}: has one table only, without a name; leave out --sheet")
            raise IntakeError(f'{path}: no sheet "{name}"; {closest(name, list(known))}')
        found.append(grid)
    return found
