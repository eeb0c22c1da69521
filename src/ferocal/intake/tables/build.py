"""A reading per row, made of a table whose columns and rows are understood."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR, Columns, Labels
from ferocal.intake.columns import Column as LongColumn
from ferocal.intake.forms import NumberForm
from ferocal.intake.spreadsheets import Share
from ferocal.intake.tables.dates import read_dates
from ferocal.intake.tables.grids import Cell
from ferocal.intake.tables.layout import Layout
from ferocal.intake.tables.options import FILE, SHEET, TableOptions
from ferocal.intake.tables.view import LEFT_OUT, NOT_USED, VALUES, Column, Roles
from ferocal.intake.tables.words import HeaderCell, direction_in, small, summaries_of, unit_of
from ferocal.intake.typed import unit_in

_UNIT_IN_TITLE = re.compile(r"(?:\bin|[(\[])\s*([^\s()\[\],;]+)")
_YES = ("yes", "y", "true", "x", "1")
# Columns of numbers beside the values.
_AMOUNTS = ("low", "high", "samples", "resolution", "round", "price", "cores", "ambient")


def long_columns(layout: Layout, roles: Roles, options: TableOptions, form: NumberForm) -> Columns:
    """A reading per row, with columns named for their roles; ``row`` is the place in the grid.

    Raises
    ------
    IntakeError
        When the table holds no readings, or its dates are doubtful.
    """
    return _Builder(layout, roles, options, form).columns()


@dataclass
class _Builder:
    """Makes a reading per row of a table."""

    layout: Layout
    roles: Roles
    options: TableOptions
    form: NumberForm

    def columns(self) -> Columns:
        """A reading per row, with columns named for their roles."""
        layout, roles = self.layout, self.roles
        values = [c for c in roles.columns if c.role in (VALUES, "value")]
        labels = [c for c in roles.columns if c.role not in (VALUES, "value", LEFT_OUT, NOT_USED)]
        texts = {c.role: self._label_texts(c) for c in labels}
        wide = values[0].role == VALUES
        rows = [
            (place, column)
            for place in range(len(layout.body))
            for column in values
            if not wide or layout.grid.cells[layout.body[place]][column.place] != ""
        ]
        found: dict[str, list[str]] = {
            role: [column[place] for place, _ in rows] for role, column in texts.items()
        }
        found["value"] = [self._value(layout.body[place], column) for place, column in rows]
        for name in ("configuration", "workload", "metric", "run"):
            if any(getattr(column, name) for column in values):
                found[name] = [getattr(column, name) for _, column in rows]
        if "metric" in found and wide:
            self._take_statistic(found, values)
        self._add_place(found, len(rows))
        self._add_sections(found, rows)
        self._add_units(found, [column for _, column in rows])
        self._add_notes(found)
        if wide and roles.across == "metric" and "run" not in found and self._has_gaps(values):
            found["run"] = self._run_of_rows(found, [place for place, _ in rows])
        row = np.array([layout.body[place] for place, _ in rows], dtype=np.int64)
        by_name: dict[str, LongColumn] = {
            name: Labels.of_texts(column) for name, column in found.items()
        }
        return Columns(by_name, row)

    def _label_texts(self, column: Column) -> list[str]:
        cells = self.layout.column(column.place)
        if column.role == "started_at":
            where = f'{self.layout.grid.where}, column "{column.name}"'
            return read_dates(cells, self.options.dates, where).texts
        if column.role in _AMOUNTS:
            if column.role == "price":
                return [_price(self._written(cell), column) for cell in cells]
            return [self._written(cell) for cell in cells]
        if column.role == "better" and column.states.better:
            other = {"higher": "lower", "lower": "higher"}[column.states.better]
            return [column.states.better if small(str(cell)) in _YES else other for cell in cells]
        return [str(cell) for cell in cells]

    def _written(self, cell: Cell) -> str:
        if isinstance(cell, Share):
            return f"{self.form.written(float(f'{100 * cell:.12g}'))} %"
        return cell if isinstance(cell, str) else self.form.written(cell)

    def _value(self, row: int, column: Column) -> str:
        return self._written(self.layout.grid.cells[row][column.place])

    def _add_place(self, found: dict[str, list[str]], count: int) -> None:
        """What the names of sheets and files are, where that is stated."""
        names = {SHEET: self.layout.grid.name, FILE: self.layout.grid.path.stem}
        for role, place in self.options.named.items():
            if place in names:
                if not names[place]:
                    raise IntakeError(
                        f"{self.layout.grid.path}: has one table without a name; "
                        f"--column {role}=SHEET needs sheets"
                    )
                found[role] = [names[place]] * count

    def _add_sections(self, found: dict[str, list[str]], rows: list[tuple[int, Column]]) -> None:
        """The texts above sections: workloads where nothing else is, else groups."""
        layout = self.layout
        if not layout.section_of:
            return
        role = "group" if "workload" in found else "workload"
        if role not in found:
            found[role] = [layout.section_of.get(layout.body[place], "") for place, _ in rows]

    def _add_units(self, found: dict[str, list[str]], columns: list[Column]) -> None:
        """Units and directions that headers or titles state, where no column does."""
        titles = " ".join(self.layout.titles)
        if "unit" not in found:
            common = next(
                (unit for text in _UNIT_IN_TITLE.findall(titles) if (unit := unit_of(text))), ""
            )
            self._take_units_of_names(found)
            named = found.pop("unit", [""] * len(columns))
            units = [
                column.unit or name or common or unit_in(value) or ""
                for column, name, value in zip(columns, named, found["value"], strict=True)
            ]
            if any(units):
                found["unit"] = units
        if "better" not in found:
            better = [column.states.better or direction_in(titles) for column in columns]
            if any(better):
                found["better"] = better

    def _take_units_of_names(self, found: dict[str, list[str]]) -> None:
        """Units that stand beside the names of metrics, or of workloads where none are named."""
        role = "metric" if self.roles.of("metric") else "workload"
        if not self.roles.of(role):
            return
        stated = [HeaderCell.of(text) for text in found[role]]
        if any(cell.unit for cell in stated):
            found["unit"] = [cell.unit for cell in stated]
            found[role] = [
                cell.name if cell.unit else text
                for cell, text in zip(stated, found[role], strict=True)
            ]

    def _take_statistic(self, found: dict[str, list[str]], values: Sequence[Column]) -> None:
        """A single metric that is called by its statistic has no other name."""
        names = {column.metric for column in values}
        kinds = summaries_of(next(iter(names))) if len(names) == 1 else ()
        if kinds in (("mean",), ("median",)) and "statistic" not in found:
            found["statistic"] = [kinds[0]] * len(found["value"])
            del found["metric"]

    def _add_notes(self, found: dict[str, list[str]]) -> None:
        """Texts of footnotes beside the values that have their sign."""
        footnotes = self.layout.footnotes
        if not footnotes:
            return
        notes = found.setdefault("note", [""] * len(found["value"]))
        for n, value in enumerate(found["value"]):
            told = [text for sign, text in footnotes.items() if value.rstrip().endswith(sign)]
            notes[n] = "; ".join(filter(None, (notes[n], *told)))

    def _has_gaps(self, values: Sequence[Column]) -> bool:
        cells, body = self.layout.grid.cells, self.layout.body
        return any(cells[row][c.place] == "" for row in body for c in values)

    @staticmethod
    def _run_of_rows(found: dict[str, list[str]], places: list[int]) -> list[str]:
        """Which run of its configuration and workload each row is, where rows are runs."""
        keys = [k for k in found if k in ("configuration", "workload", "bench", "visit", "round")
                or k.startswith(FACTOR)]  # fmt: skip
        seen: dict[tuple[str, ...], dict[int, int]] = {}
        runs = []
        for n, place in enumerate(places):
            of_arm = seen.setdefault(tuple(found[k][n] for k in keys), {})
            runs.append(str(of_arm.setdefault(place, len(of_arm) + 1)))
        return runs


def _price(text: str, column: Column) -> str:
    """A price with its unit behind it, which its cell or its header may state."""
    match = re.fullmatch(r"([€$£])\s*(\d\S*)", text)
    if match is None:
        return f"{text} {column.unit}" if text and column.unit else text
    return f"{match[2]} {match[1]}" + ("/h" if "hour" in column.name.lower() else "")
