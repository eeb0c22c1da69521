"""The columns of a table with what is found out of them, and the questions asked of their cells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace
from typing import Any

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR
from ferocal.intake.forms import NumberForm
from ferocal.intake.tables.grids import Cell
from ferocal.intake.tables.layout import Header, Layout, is_reading, is_value
from ferocal.intake.tables.options import Across, Doubt, Known, TableOptions
from ferocal.intake.tables.summaries import Numbers
from ferocal.intake.tables.words import HeaderCell, small
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest, resolve

# What a column is beside the roles of readings.
VALUES, LEFT_OUT, NOT_USED = "values", "left out", "not used"


@dataclass(frozen=True)
class Column:
    """A column with what it is, and why; of values also what they are of, "" where rows say it."""

    place: int
    header: Header
    states: HeaderCell
    role: str = ""
    why: str = ""
    configuration: str = ""
    workload: str = ""
    metric: str = ""
    run: str = ""

    @property
    def name(self) -> str:
        """What the column is called."""
        return self.header.text

    @property
    def unit(self) -> str:
        """The unit that stands above it, "" for none."""
        return self.header.unit or self.states.unit

    def is_called(self, name: str) -> bool:
        """Whether it has a name, but for capitals and punctuation."""
        return small(name) in (small(self.name), small(self.header.name), small(self.states.name))


@dataclass
class Roles:
    """The columns of a table, by what they are, and what of it is doubtful."""

    columns: list[Column]
    across: Across | None = None
    doubts: list[Doubt] = field(default_factory=list)

    def of(self, role: str) -> list[Column]:
        """The columns of a role."""
        return [column for column in self.columns if column.role == role]

    def set(self, column: Column, role: str, why: str, **more: Any) -> None:
        """Give a column its role."""
        self.columns[column.place] = replace(self.columns[column.place], role=role, why=why, **more)

    def doubt(self, what: str, taken: str, remedy: str) -> None:
        """Keep what may be read in two ways."""
        self.doubts.append(Doubt(what, taken, remedy))

    @property
    def open(self) -> list[Column]:
        """The columns without a role."""
        return [column for column in self.columns if not column.role]

    @property
    def has_factors(self) -> bool:
        """Whether any column has the levels of a factor."""
        return any(column.role.startswith(FACTOR) for column in self.columns)


@dataclass(frozen=True)
class View:
    """A table on the way to its roles."""

    layout: Layout
    options: TableOptions
    known: Known
    form: NumberForm
    roles: Roles
    _numeric: dict[int, bool] = field(default_factory=dict)

    @property
    def where(self) -> str:
        """The file, and the sheet if it has several."""
        return self.layout.grid.where

    def cells(self, column: Column) -> list[Cell]:
        """What stands in a column."""
        return [cell for cell in self.layout.column(column.place) if cell != ""]

    def is_numeric(self, column: Column) -> bool:
        """Whether most of what stands in a column are readings."""
        if column.place not in self._numeric:
            cells = self.cells(column)
            values = sum(is_value(cell) for cell in cells)
            some = any(map(is_reading, cells)) or 0 < len(cells) == values
            self._numeric[column.place] = some and values >= 0.5 * len(cells)
        return self._numeric[column.place]

    def numbers(self, column: Column) -> Numbers:
        """The numbers of a column."""
        return Numbers.of(self.layout.column(column.place), self.form)

    def is_kept(self, column: Column) -> bool:
        """Whether it is stated that a column holds readings."""
        return any(column.is_called(name) for name in self.options.keep)

    def has(self, role: str) -> bool:
        """Whether anything says which configuration, workload or metric readings are of."""
        return (
            role in self.options.named
            or bool(self.roles.of(role))
            or any(getattr(column, role, "") for column in self.roles.of(VALUES))
        )

    def find(self, name: str, told: str) -> Column:
        """The column of a name.

        Raises
        ------
        IntakeError
            When there is none, or several.
        """
        columns = self.roles.columns
        for found in (
            [c for c in columns if name == c.name],
            [c for c in columns if small(name) == small(c.name)],
            [c for c in columns if c.is_called(name)],
        ):
            if len(found) == 1:
                return found[0]
        hint = closest(name, [c.name for c in columns if c.name])
        raise IntakeError(f'{self.where}: no column "{name}" for {told}; {hint}')


def resolves(names: Sequence[str], known: Sequence[str]) -> bool:
    """Whether all names stand for known ones."""
    return bool(names) and all(resolve(name, known) in known for name in names)
