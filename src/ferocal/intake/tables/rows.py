"""The rows of a table: which sum up others, what empty cells stand for, and what cannot be read."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR
from ferocal.intake.forms import NumberForm
from ferocal.intake.spreadsheets import Share
from ferocal.intake.tables.grids import Cell
from ferocal.intake.tables.layout import Layout, is_reading
from ferocal.intake.tables.options import TableOptions
from ferocal.intake.tables.summaries import Numbers, is_telling, summary_of_rows
from ferocal.intake.tables.view import LEFT_OUT, NOT_USED, VALUES, Column, Roles
from ferocal.intake.tables.words import small, summaries_of


def leave_out_rows(
    layout: Layout, roles: Roles, options: TableOptions, form: NumberForm
) -> list[tuple[str, str]]:
    """Take rows that sum up others out of the body; what each was called, and why."""
    values = [c for c in roles.columns if c.role in (VALUES, "value")]
    names = {row: _name_of(layout, row, roles) for row in layout.body}
    seen: set[str] = set()
    left_out: list[tuple[str, str]] = []
    kept: list[int] = []
    for row in layout.body:
        name = names[row]
        why = "stated" if _is_among(name, options.ignore) else ""
        kinds = summaries_of(name)
        if not kinds and roles.across and (row == layout.body[-1] or not name):
            kinds = _UNNAMED if name not in seen else ()
        if not why and kinds and not _is_among(name, options.keep):
            others = _others(layout, row, kept)
            held = _held(kinds, layout, values, form, row, others)
            why = _why_left_out(roles, name, kinds, held, len(others))
        if why:
            left_out.append((name, why))
        else:
            kept.append(row)
            seen.add(name)
    layout.body = kept
    return left_out


# What a row may be whose name does not say that it sums up others.
_UNNAMED = ("sum", "mean", "geometric mean")


def _name_of(layout: Layout, row: int, roles: Roles) -> str:
    labels = [c for c in roles.columns if c.role in ("configuration", "workload", "metric")]
    cells = [str(layout.grid.cells[row][c.place]) for c in labels]
    return next(filter(None, cells), "")


def _is_among(name: str, others: Sequence[str]) -> bool:
    return any(small(name) == small(other) for other in others)


def _why_left_out(roles: Roles, name: str, kinds: Sequence[str], held: str, others: int) -> str:
    """Why a row is no reading, "" if it is one; what is not certain of that is doubtful."""
    if not kinds or others < 2:
        return ""
    remedy = f'--ignore "{name}", or --keep "{name}" for readings'
    if kinds is _UNNAMED:
        if held and name:
            roles.doubt(f'row "{name}" is the {held} of the others', "left out", remedy)
        return f"the {held} of {others} rows" if held else ""
    if held:
        return f"the {held} of {others} rows"
    roles.doubt(
        f'row "{name}" is named like a {kinds[0]}, and its numbers are none of the others',
        "left out",
        remedy,
    )
    return "its name"


def _held(
    kinds: Sequence[str],
    layout: Layout,
    values: Sequence[Column],
    form: NumberForm,
    row: int,
    others: Sequence[int],
) -> str:
    """Which of some summaries a row is of others."""
    if len(others) < (3 if kinds is _UNNAMED else 2):
        return ""
    cells = layout.grid.cells
    own = [Numbers.of([cells[row][c.place]], form) for c in values]
    above = [Numbers.of([cells[n][c.place] for n in others], form) for c in values]
    if kinds is _UNNAMED and not all(map(is_telling, own, above)):
        return ""
    return summary_of_rows(kinds, own, above)


def _others(layout: Layout, row: int, kept: Sequence[int]) -> list[int]:
    """The rows that a row may sum up: those of its section, else all of them."""
    section = layout.section_of.get(row)
    same = [n for n in kept if layout.section_of.get(n) == section]
    return same if len(same) > 1 else list(kept)


def fill_down(layout: Layout, roles: Roles, options: TableOptions) -> None:
    """Fill what merged cells leave empty in columns of names; what else is empty is doubtful."""
    has_metrics = bool(roles.of("metric"))
    for column in roles.columns:
        wanted = column.role == "configuration" or column.role.startswith(FACTOR)
        if not (wanted or (column.role == "workload" and not has_metrics)):
            continue
        cells, last, gaps = layout.grid.cells, "", 0
        areas = [a for a in layout.grid.merged if a[2] <= column.place <= a[3]]
        for row in layout.body:
            cell = str(cells[row][column.place])
            if cell:
                last = cell
                continue
            gaps += not any(top < row <= bottom for top, bottom, _, _ in areas)
            cells[row][column.place] = last
        if last and gaps and not options.fill_down:
            roles.doubt(
                f'column "{column.name}" has empty cells below its names',
                "like the cell above",
                "--fill-down, or write the names",
            )


def check_formulas(layout: Layout, roles: Roles) -> None:
    """Refuse formulas of which the file has no result."""
    places = {c.place: c for c in roles.columns if c.role not in (NOT_USED, LEFT_OUT)}
    for row, place in sorted(layout.grid.formulas):
        if row in layout.body and place in places:
            raise IntakeError(
                f'{layout.grid.where}, {layout.grid.place(row)}, "{places[place].name}": is a '
                "formula whose result the file does not hold; open it in a spreadsheet program and "
                "save it again"
            )


def check_shares(layout: Layout, roles: Roles) -> None:
    """Refuse numbers of one metric of which some are in per cent and some are not."""
    values = [c for c in roles.columns if c.role in (VALUES, "value")]
    cells = layout.grid.cells
    groups: list[list[tuple[int, Cell]]]
    if roles.of("value"):
        labels = [c.place for c in roles.columns if c.role in ("workload", "metric")]
        by_name: dict[tuple[Cell, ...], list[tuple[int, Cell]]] = {}
        for row in layout.body:
            key = tuple(cells[row][n] for n in labels)
            by_name.setdefault(key, []).extend((row, cells[row][c.place]) for c in values)
        groups = list(by_name.values())
    elif roles.across == "configuration":
        groups = [[(row, cells[row][c.place]) for c in values] for row in layout.body]
    else:
        groups = [[(row, cells[row][c.place]) for row in layout.body] for c in values]
    for group in groups:
        readings = [(row, cell) for row, cell in group if is_reading(cell)]
        shares = [pair for pair in readings if _is_share(pair[1])]
        others = [pair for pair in readings if not _is_share(pair[1])]
        if shares and others:
            row, other = others[0]
            shown = f"{100 * shares[0][1]:g} %" if isinstance(shares[0][1], Share) else shares[0][1]
            raise IntakeError(
                f'{layout.grid.where}, {layout.grid.place(row)}: "{other}" stands beside '
                f'"{shown}": write all with the sign or none'
            )


def _is_share(cell: Cell) -> bool:
    return isinstance(cell, Share) or (isinstance(cell, str) and cell.rstrip("! *").endswith("%"))
