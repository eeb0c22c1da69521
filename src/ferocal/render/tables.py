"""Tables for the terminal, built from results of analysis."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from rich import box
from rich.console import Console
from rich.table import Table

from ferocal.analysis.data.cells import Cell
from ferocal.analysis.data.gaps import Gap
from ferocal.analysis.data.readings import Series
from ferocal.analysis.inference.effects import Effect
from ferocal.render.gaps import GAP_SIGNS
from ferocal.render.numbers import percent, reading_text
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted


def plain_table(*columns: str, right: Sequence[str] = ()) -> Table:
    """An empty table in the style of all tables here; ``right`` are aligned right."""
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1), header_style="bold")
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left")
    return table


def order_table(rounds: Mapping[int, Sequence[str]]) -> Table:
    """The configurations of each round in the order of their visits."""
    table = plain_table("round", "order of the visits", right=("round",))
    for number, names in rounds.items():
        table.add_row(str(number), " → ".join(names))
    return table


def series_label(series: Series) -> str:
    """Metric with unit and direction, such as "load-time, s, lower is better"."""
    return f"{series.metric}, {series.unit}, {direction(series.better)}"


def direction(better: str) -> str:
    """Which way is better, in words."""
    return "not judged" if better == "none" else f"{better} is better"


def group_by_series(effects: Sequence[Effect]) -> list[list[Effect]]:
    """Effects of the same series together, in order of first appearance."""
    groups: dict[Series, list[Effect]] = {}
    for effect in effects:
        groups.setdefault(effect.series, []).append(effect)
    return list(groups.values())


def cell_text(cell: Cell | Gap | None, separator: str = " ") -> str:
    """Centre, spread and number of runs, such as "58.2 ±1.3 % (15)"; why there is none.

    Of a single reading there is no spread; ranges have their ends, bounds their sign.
    """
    if cell is None:
        return "–"
    if not isinstance(cell, Cell):
        return GAP_SIGNS[cell.mark]
    return f"{centre_text(cell)}{separator}{_spread_text(cell)}({cell.runs})"


def centre_text(cell: Cell) -> str:
    """The centre of a cell, as a range or a bound where that is what was read."""
    alone = cell.runs == 1 or cell.span is not None or cell.bound is not None
    text = significant(cell.centre)
    if alone:
        text = reading_text(cell.centre, cell.span, cell.bound or "", 4)
    if cell.bounds:
        text += f", {counted(cell.bounds, 'bound')} beside"
    return text


def _spread_text(cell: Cell) -> str:
    if cell.bound or math.isnan(cell.cv):
        return ""
    return "all equal " if cell.cv == 0 else f"±{percent(cell.cv)} "


def cells_table(
    rows: Sequence[Sequence[Cell | None]],
    names: Sequence[str],
    gaps: Sequence[Gap],
    console: Console,
) -> Table:
    """Configurations as columns where the console is wide enough, else as rows."""
    wide = _wide_cells_table(rows, names, gaps)
    fits = wide.__rich_measure__(console, console.options.update(max_width=10_000)).maximum
    return wide if fits <= console.width else _long_cells_table(rows, names, gaps)


def _wide_cells_table(
    rows: Sequence[Sequence[Cell | None]], names: Sequence[str], gaps: Sequence[Gap]
) -> Table:
    """Series as rows, configurations as columns; the spread stands below the centre."""
    shown = [n for n in range(len(names)) if any(row[n] is not None for row in rows)]
    rows, names = [[row[n] for n in shown] for row in rows], [names[n] for n in shown]
    table = plain_table("workload and metric", *names, right=names)
    for row in rows:
        series = next((cell.series for cell in row if cell is not None), None)
        if series is not None:
            heading = f"{series.workload}\n{series.metric}, {series.unit}"
            table.add_row(heading, *(cell_text(cell, "\n") for cell in with_gaps(row, gaps, names)))
    return table


def with_gaps(
    row: Sequence[Cell | None], gaps: Sequence[Gap], names: Sequence[str]
) -> list[Cell | Gap | None]:
    """The cells of a row, and in the place of each that is missing what is known of that."""
    first = next(cell for cell in row if cell is not None)
    place = (first.bench, first.series.workload, first.series.metric)
    known = {
        gap.configuration: gap for gap in gaps if (gap.bench, gap.workload, gap.metric) == place
    }
    return [
        known.get(name) if cell is None else cell for cell, name in zip(row, names, strict=True)
    ]


def _long_cells_table(
    rows: Sequence[Sequence[Cell | None]], names: Sequence[str], gaps: Sequence[Gap]
) -> Table:
    """One row per series and configuration, for narrow terminals."""
    table = plain_table(
        "workload",
        "metric",
        "configuration",
        "centre",
        "CV",
        "runs",
        right=("centre", "CV", "runs"),
    )
    for row in rows:
        if not any(row):
            continue
        series = next(cell.series for cell in row if cell is not None)
        known = [cell for cell in with_gaps(row, gaps, names) if cell is not None]
        for number, cell in enumerate(known):
            heads = (series.workload, f"{series.metric}, {series.unit}") if not number else ("", "")
            if isinstance(cell, Gap):
                table.add_row(*heads, cell.configuration, GAP_SIGNS[cell.mark], "–", "0")
                continue
            centre, cv = centre_text(cell), _spread_text(cell).strip() or "–"
            table.add_row(*heads, cell.configuration, centre, cv, str(cell.runs))
    return table
