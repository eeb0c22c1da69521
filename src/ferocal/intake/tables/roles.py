"""What the columns of a table are: by what is stated, by their names, and by their cells."""

from __future__ import annotations

import re

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR
from ferocal.intake.forms import NumberForm
from ferocal.intake.spreadsheets import letters
from ferocal.intake.tables.across import take_values
from ferocal.intake.tables.labels import leave_rest, take_labels
from ferocal.intake.tables.layout import Layout
from ferocal.intake.tables.options import FILE, SHEET, Known, TableOptions
from ferocal.intake.tables.summary_columns import leave_out_summaries, notice_changes
from ferocal.intake.tables.view import NOT_USED, VALUES, Column, Roles, View
from ferocal.intake.tables.words import COLUMN_NAMES, HeaderCell, role_by_name, summaries_of
from ferocal.terms.wording import listed, shortened

# Of these a table has numbers, of all others texts.
_NUMERIC = frozenset({"value", "round", "low", "high", "samples", "resolution", "price", "cores",
                      "ambient"})  # fmt: skip
_TEXTS = frozenset({"configuration", "workload", "metric", "group", "note", "source", "unit"})


def find_roles(layout: Layout, options: TableOptions, known: Known, form: NumberForm) -> Roles:
    """What every column of a table is.

    Raises
    ------
    IntakeError
        When a column that is named is not there, or two have the same name or role.
    """
    columns = [Column(n, h, HeaderCell.of(h.name)) for n, h in enumerate(layout.headers)]
    view = View(layout, options, known, form, Roles(columns))
    for step in (
        _check_names, _take_stated, _take_names, leave_out_summaries, take_values, notice_changes,
        _check_values, take_labels, leave_rest,
    ):  # fmt: skip
        step(view)
    return view.roles


def _check_names(view: View) -> None:
    """Refuse columns that nothing tells apart."""
    names = [c.name for c in view.roles.columns if view.cells(c)]
    for name in dict.fromkeys(names):
        places = [_place(view, n) for n, c in enumerate(view.roles.columns) if c.name == name]
        if names.count(name) < 2:
            continue
        line = view.layout.grid.place(view.layout.header_rows[-1])
        what = f'are both called "{name}"' if name else "have no name"
        raise IntakeError(
            f"{view.layout.grid.path}, {line}: columns {listed(places)} {what}; write a name "
            "above each, or say with --header in which line the names stand"
        )


def _check_values(view: View) -> None:
    """Refuse a table in which nothing is a reading."""
    if view.roles.of(VALUES) or view.roles.of("value"):
        return
    names = ", ".join(column.name for column in view.roles.columns if column.name)
    raise IntakeError(
        f'{view.where}: neither a column "value" nor columns named like configurations or metrics '
        f"that hold numbers. Found: {shortened(names, 200) or 'none'}"
    )


def _place(view: View, place: int) -> str:
    """A column as people find it: by its letter in a spreadsheet, else counted from 1."""
    spreadsheet = view.layout.grid.path.suffix.lower() in (".xlsx", ".ods")
    return letters(place) if spreadsheet else str(place + 1)


def _take_stated(view: View) -> None:
    """What is stated of columns."""
    for name in view.options.ignore:
        for column in view.roles.columns:
            if column.is_called(name):
                view.roles.set(column, NOT_USED, "stated")
    for role, name in view.options.named.items():
        if name in (SHEET, FILE):
            continue
        column = view.find(name, role)
        if role == "metric" and view.is_numeric(column):
            view.roles.set(column, VALUES, "stated", metric=column.states.name)
        else:
            view.roles.set(column, role, "stated")
    for name in view.options.factors:
        given = [c for c in view.roles.columns if c.name in (name, FACTOR + name)]
        if not given:
            given = [view.find(name, "--factor")]
        view.roles.set(given[-1], FACTOR + name, "stated")


def _take_names(view: View) -> None:
    """Roles that the names of columns say, where the cells agree."""
    for column in view.roles.open:
        name = column.header.name
        of_factor = name in view.known.factors and name not in COLUMN_NAMES
        if name.startswith(FACTOR) or of_factor:
            view.roles.set(column, FACTOR + name.removeprefix(FACTOR), "its name")
            continue
        role = role_by_name(name) or role_by_name(column.states.name)
        if role is None and column.states.better and not column.states.name:
            role = "better"
        if role is not None and _fits(view, column, role):
            _take_name(view, column, role)


def _take_name(view: View, column: Column, role: str) -> None:
    others = view.roles.of(role)
    exact = column.header.name.lower() == role
    if not others:
        view.roles.set(column, role, "its name")
    elif all(other.why == "stated" for other in others):
        return
    elif exact and all(other.header.name.lower() != role for other in others):
        # Ours is meant before other words for it.
        view.roles.set(others[0], "", "")
        view.roles.set(column, role, "its name")
    elif exact:
        raise IntakeError(
            f'{view.where}: two columns both mean "{role}": name one with --column {role}=NAME'
        )


def _fits(view: View, column: Column, role: str) -> bool:
    """Whether the cells of a column are what its name says."""
    if column.header.top:
        return False
    exact = column.header.name.lower() == role
    numeric = view.is_numeric(column)
    if role in ("low", "high", "resolution"):
        return exact or (numeric and bool(_values_of_rows(view)))
    if role == "samples":
        return numeric and any(c is not column and view.is_numeric(c) for c in view.roles.columns)
    if role == "value":
        rest = [c for c in view.roles.open if c is not column and _is_open_metric(view, c)]
        return exact or (numeric and not rest)
    if role == "price":
        return numeric or all(re.search(r"\d", str(cell)) for cell in view.cells(column))
    if role in _NUMERIC:
        return exact or numeric
    if role in ("better", "role", "margin", "bound", "mark"):
        return exact or not numeric or role == "margin"
    if role == "run" and numeric and not exact:
        return all(not isinstance(cell, float) for cell in view.cells(column))
    return exact or not numeric or role not in _TEXTS


def _values_of_rows(view: View) -> list[Column]:
    return [c for c in view.roles.columns if role_by_name(c.header.name) == "value"]


def _is_open_metric(view: View, column: Column) -> bool:
    own = role_by_name(column.header.name)
    return own is None and view.is_numeric(column) and not summaries_of(column.header.name)
