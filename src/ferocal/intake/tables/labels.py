"""The columns of names: configurations, workloads, metrics and factors; and what is left."""

from __future__ import annotations

from ferocal.intake.columns import FACTOR
from ferocal.intake.tables.view import NOT_USED, Column, View, resolves
from ferocal.intake.tables.words import is_compared
from ferocal.terms.wording import listed

_LABELS = ("configuration", "workload", "metric", "group")


def take_labels(view: View) -> None:
    """The columns of names: configurations, workloads, metrics and factors."""
    texts = [c for c in view.roles.open if not view.is_numeric(c) and view.cells(c)]
    texts = _take_known(view, texts)
    if not view.has("configuration") and not view.roles.has_factors:
        texts = _take_configurations(view, texts)
    if texts and not view.has("workload"):
        lead, texts = texts[0], texts[1:]
        view.roles.set(lead, "workload", "the first column of names")
        if view.roles.across != "configuration" and len(set(view.cells(lead))) > 1:
            view.roles.doubt(
                f'column "{lead.name}" may be of workloads',
                "workloads",
                f'--column workload="{lead.name}", --factor "{lead.name}" or '
                f'--ignore "{lead.name}"',
            )
    if texts and not view.has("metric") and tells_rows_apart(view, texts[0]):
        lead, texts = texts[0], texts[1:]
        view.roles.set(lead, "metric", "tells rows of one workload apart")
        view.roles.doubt(
            f'column "{lead.name}" tells rows apart that are the same otherwise',
            "metrics",
            f'--column metric="{lead.name}", --factor "{lead.name}" or --ignore "{lead.name}"',
        )


def _take_known(view: View, texts: list[Column]) -> list[Column]:
    """Columns whose texts all are names that the study has."""
    for role, known in (
        ("configuration", view.known.configurations), ("workload", view.known.workloads),
        ("metric", view.known.metrics),
    ):  # fmt: skip
        if view.has(role):
            continue
        for column in texts:
            if resolves([str(c) for c in dict.fromkeys(view.cells(column))], known):
                view.roles.set(column, role, "names of the study")
                texts = [c for c in texts if c is not column]
                break
    return texts


def _take_configurations(view: View, texts: list[Column]) -> list[Column]:
    compared = [c for c in texts if is_compared(c.header.name)]
    if len(compared) > 1:
        for column in compared:
            view.roles.set(column, FACTOR + column.header.name, "named like what is compared")
    elif compared:
        view.roles.set(compared[0], "configuration", "named like what is compared")
    elif len(texts) == 1:
        view.roles.set(texts[0], "configuration", "the only column of names")
    elif texts and view.roles.across in ("metric", "run"):
        lead = texts[0]
        view.roles.set(lead, "configuration", "the first column of names")
        others = listed([f'"{c.name}"' for c in texts])
        view.roles.doubt(
            f"which of {others} has the configurations",
            f'"{lead.name}"',
            "--column configuration=NAME",
        )
    elif not texts and (rest := [*view.roles.of("bench"), *view.roles.of("version")]):
        view.roles.set(rest[0], "configuration", "the only column of names")
    return [c for c in texts if not view.roles.columns[c.place].role]


def leave_rest(view: View) -> None:
    """Columns that say nothing, or that might and are not understood."""
    for column in view.roles.open:
        cells = view.cells(column)
        if not cells:
            view.roles.set(column, NOT_USED, "empty")
        elif view.is_numeric(column):
            view.roles.set(column, NOT_USED, "values are in another column")
        else:
            view.roles.set(column, NOT_USED, "no name that is known")
            if tells_rows_apart(view, column):
                name = column.name
                view.roles.doubt(
                    f'column "{name}" tells rows apart that are the same otherwise',
                    "not used",
                    f'--column ROLE="{name}", --factor "{name}" or --ignore "{name}"',
                )


def tells_rows_apart(view: View, column: Column) -> bool:
    """Whether rows that are the same in all other names differ in a column."""
    labels = [
        c.place for c in view.roles.columns
        if c.role in (*_LABELS, "round", "visit", "run", "bench", "unit", "started_at")
        or c.role.startswith(FACTOR)
    ]  # fmt: skip
    seen: dict[tuple[object, ...], set[object]] = {}
    for row in view.layout.body:
        cells = view.layout.grid.cells[row]
        seen.setdefault(tuple(cells[n] for n in labels), set()).add(cells[column.place])
    distinct = {cell for cells in seen.values() for cell in cells}
    return any(len(cells) > 1 for cells in seen.values()) and len(distinct) < len(view.layout.body)
