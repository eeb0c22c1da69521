"""The reading of a table: what its columns and rows are, and the readings that it holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import Column as LongColumn
from ferocal.intake.columns import Columns, Labels
from ferocal.intake.forms import FoundForm, NumberForm, find_form
from ferocal.intake.tables.build import long_columns
from ferocal.intake.tables.dates import read_dates
from ferocal.intake.tables.files import Where, read_grids
from ferocal.intake.tables.grids import Grid, chosen
from ferocal.intake.tables.layout import Layout, find_layout, is_reading, is_value
from ferocal.intake.tables.options import SHEET, Doubt, DoubtfulError, Known, TableOptions
from ferocal.intake.tables.roles import find_roles
from ferocal.intake.tables.rows import check_formulas, check_shares, fill_down, leave_out_rows
from ferocal.intake.tables.view import Roles
from ferocal.intake.tables.words import COLUMN_NAMES, role_by_name
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import listed

# Roles of columns of names, of which those are texts even if they look like numbers.
_NO_NUMBERS = frozenset(COLUMN_NAMES) - {"value", "low", "high", "resolution", "price", "ambient"}


@dataclass(frozen=True)
class OneTable:
    """One table of a file, with what its rows and columns are."""

    layout: Layout
    roles: Roles
    left_out: tuple[tuple[str, str], ...]

    @property
    def grid(self) -> Grid:
        """Where its cells are."""
        return self.layout.grid


@dataclass(frozen=True)
class TableReading:
    """The tables of a file as they were understood, and the readings that they hold.

    ``columns`` is a reading per row; its rows are those of all tables behind one another, and
    ``numbers`` and ``word`` say how people find them. ``doubts`` are what was taken as it seems.
    """

    path: Path
    tables: tuple[OneTable, ...]
    form: FoundForm
    columns: Columns
    word: str
    row_numbers: tuple[int, ...]
    doubts: tuple[Doubt, ...]
    passed_over: tuple[str, ...] = ()

    @property
    def around(self) -> tuple[str, ...]:
        """Lines above the tables and below them that belong to no reading."""
        layouts = [table.layout for table in self.tables]
        return tuple(
            dict.fromkeys(text for each in layouts for text in (*each.titles, *each.remarks))
        )

    def kept(self) -> dict[str, Any]:
        """What was decided, as it is kept with the readings."""
        columns = {
            (c.name, c.role, c.why): None for table in self.tables for c in table.roles.columns
        }
        left_out = {pair: None for table in self.tables for pair in table.left_out}
        decimal = {",": "decimal comma", ".": "decimal point"}[self.form.form.decimal or "."]
        return {
            "columns": [list(column) for column in columns],
            "left_out": [list(pair) for pair in left_out],
            "around": list(self.around),
            "doubts": [[doubt.what, doubt.taken] for doubt in self.doubts],
            "numbers": f"{decimal} ({self.form.evidence})" if self.form.evidence else decimal,
        }

    def numbers(self, rows: Sequence[int]) -> list[int]:
        """The numbers of rows in the file."""
        return [self.row_numbers[row] for row in rows]


def understand(path: Path, options: TableOptions, known: Known) -> TableReading:
    """Read the tables of a file.

    Raises
    ------
    IntakeError
        When it is damaged, when what is stated of it does not hold, or when anything is doubtful
        and ``options`` do not agree to take it as it seems.
    """
    grids = chosen(read_grids(path, Where(options.path, options.pattern)), options.sheets)
    if not grids:
        raise IntakeError(f"{path}: there is no table in it")
    with_numbers = [grid for grid in grids if _has_numbers(grid)]
    passed = tuple(grid.name for grid in grids if grid not in with_numbers and grid.name)
    layouts = [find_layout(grid, options.header) for grid in with_numbers or grids[:1]]
    form = _find_form(layouts, options, path)
    options = _with_place(layouts, options, known, form.form)
    tables = [_one_table(layout, options, known, form.form) for layout in layouts]
    doubts = _doubts(tables, form)
    if len(tables) > 1 and SHEET not in options.named.values():
        names = listed([f'"{table.grid.name}"' for table in tables[:4]])
        doubts.append(
            Doubt(f"the sheets {names} hold readings of the same things", "all of them as runs",
                  "--sheet NAME for one of them, or --column ROLE=SHEET")
        )  # fmt: skip
    _refuse_doubts(path, doubts, options)
    parts = [long_columns(table.layout, table.roles, options, form.form) for table in tables]
    rows = tuple(number for table in tables for number in table.grid.numbers)
    return TableReading(
        path, tuple(tables), form, _joined(parts, tables), tables[0].grid.word, rows,
        tuple(doubts), passed,
    )  # fmt: skip


def _has_numbers(grid: Grid) -> bool:
    return any(is_reading(cell) for row in grid.cells for cell in row)


def _find_form(layouts: Sequence[Layout], options: TableOptions, path: Path) -> FoundForm:
    """The form of the numbers in all columns that have some."""
    texts: list[str] = []
    for layout in layouts:
        for place, header in enumerate(layout.headers):
            if role_by_name(header.name) in _NO_NUMBERS:
                continue
            cells = [cell for cell in layout.column(place) if cell != ""]
            if sum(map(is_value, cells)) >= 0.5 * len(cells):
                texts += [cell for cell in cells if isinstance(cell, str)]
    return find_form(texts, options.decimal, str(path))


def _with_place(
    layouts: Sequence[Layout], options: TableOptions, known: Known, form: NumberForm
) -> TableOptions:
    """The options with the sheets as configurations, where nothing else tells these."""
    alike = len({tuple(h.text for h in layout.headers) for layout in layouts}) == 1
    if len(layouts) < 2 or SHEET in options.named.values() or "configuration" in options.named:
        return options
    if not alike:
        names = listed([f'"{layout.grid.name}"' for layout in layouts[:4]])
        raise IntakeError(
            f"{layouts[0].grid.path}: the sheets {names} have other columns each; choose with "
            "--sheet NAME"
        )
    roles = find_roles(layouts[0], options, known, form)
    own = roles.of("configuration")
    if own and own[0].why not in ("the only column of names", "the first column of names"):
        return options
    if roles.across == "configuration" or roles.has_factors:
        return options
    return replace(options, named={**options.named, "configuration": SHEET})


def _one_table(layout: Layout, options: TableOptions, known: Known, form: NumberForm) -> OneTable:
    roles = find_roles(layout, options, known, form)
    left_out = leave_out_rows(layout, roles, options, form)
    fill_down(layout, roles, options)
    for column in roles.of("started_at"):
        where = f'{layout.grid.where}, column "{column.name}"'
        dates = read_dates(layout.column(column.place), options.dates, where)
        if dates.doubt:
            roles.doubt(dates.doubt, "the day first", "--dates day-first or --dates month-first")
    check_formulas(layout, roles)
    check_shares(layout, roles)
    return OneTable(layout, roles, tuple(left_out))


def _doubts(tables: Sequence[OneTable], form: FoundForm) -> list[Doubt]:
    doubts = [
        Doubt(what, "as the header", remedy)
        for table in tables
        for what, remedy in table.layout.doubts
    ]
    doubts += [doubt for table in tables for doubt in table.roles.doubts]
    if form.doubt:
        sign = "point" if form.form.decimal == "." else "comma"
        doubts.append(
            Doubt(form.doubt, f"with a decimal {sign}", "--decimal point or --decimal comma")
        )
    return list(dict.fromkeys(doubts))


def _refuse_doubts(path: Path, doubts: Sequence[Doubt], options: TableOptions) -> None:
    if not doubts or options.doubtful:
        return
    if len(doubts) == 1:
        raise DoubtfulError(f"{path}: {doubts[0].what}; say {doubts[0].remedy}")
    lines = [f"  {doubt.what}; say {doubt.remedy}" for doubt in doubts]
    raise DoubtfulError("\n".join([f"{path}: may be read in several ways", *lines]))


def _joined(parts: Sequence[Columns], tables: Sequence[OneTable]) -> Columns:
    """The readings of several tables, one behind the other."""
    starts = np.cumsum([0, *(len(table.grid.numbers) for table in tables)])
    names = list(dict.fromkeys(name for part in parts for name in part.names))
    by_name: dict[str, LongColumn] = {}
    for name in names:
        texts: list[str] = []
        for part in parts:
            texts += part.labels(name).at(np.arange(len(part)))
        by_name[name] = Labels.of_texts(texts)
    row = np.concatenate([part.row + start for part, start in zip(parts, starts, strict=False)])
    return Columns(by_name, row)
