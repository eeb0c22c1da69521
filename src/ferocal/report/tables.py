"""Tables for the terminal, built from results of analysis."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich import box
from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from ferocal.analysis.cells import Cell
from ferocal.analysis.effects import Effect, speed_factor
from ferocal.analysis.readings import Series
from ferocal.report.answer import evidence_text, verdict_text
from ferocal.report.numbers import change_text, interval_name, interval_text, percent, significant

VERDICT_STYLES = {
    "better": "bold blue",
    "worse": "bold dark_orange",
    "equivalent": "",
    "inconclusive": "italic",
}


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
    return f"{series.metric}, {series.unit}, {series.better} is better"


def effects_table(
    effects: Sequence[Effect], confidence: float, *, times: bool = False
) -> RenderableType:
    """One row per effect, below a heading for each series; the first has the column names.

    With ``times`` there is a column of speed factors.
    """
    if not effects:
        return Text("no effects to show\n")
    interval = interval_name(confidence)
    columns = ["configuration", "change", interval, "verdict", "evidence"]
    columns += ["times as fast"] if times else []
    groups = [
        (group[0].series, [_effect_row(e, times) for e in group])
        for group in group_by_series(effects)
    ]
    everything = [[Text(name) for name in columns], *(row for _, rows in groups for row in rows)]
    widths = [max(cell.cell_len for cell in column) for column in zip(*everything, strict=True)]
    parts: list[RenderableType] = []
    for number, (series, rows) in enumerate(groups):
        table = plain_table(*columns, right=("change", interval, "times as fast"))
        table.box, table.show_header = None, number == 0
        for column, width in zip(table.columns, widths, strict=True):
            column.min_width = width
        for row in rows:
            table.add_row(*row)
        heading = Text.assemble((series.workload, "bold"), f"  {series_label(series)}")
        parts += [heading, Padding(table, (0, 0, 1, 1), expand=False)]
    return Group(*parts)


def _effect_row(effect: Effect, times: bool) -> list[Text]:
    row = [
        Text(effect.configuration),
        Text(change_text(effect)),
        Text(interval_text(effect)),
        Text(verdict_text(effect), style=VERDICT_STYLES[effect.verdict]),
        Text(evidence_text(effect)),
    ]
    return [*row, Text(significant(speed_factor(effect), 3))] if times else row


def group_by_series(effects: Sequence[Effect]) -> list[list[Effect]]:
    """Effects of the same series together, in order of first appearance."""
    groups: dict[Series, list[Effect]] = {}
    for effect in effects:
        groups.setdefault(effect.series, []).append(effect)
    return list(groups.values())


def cell_text(cell: Cell | None, separator: str = " ") -> str:
    """Centre, spread and number of runs, such as "58.2 ±1.3 % (15)"."""
    if cell is None:
        return "–"
    return f"{significant(cell.centre)}{separator}±{percent(cell.cv)} ({cell.runs})"


def cells_table(
    rows: Sequence[Sequence[Cell | None]], names: Sequence[str], console: Console
) -> Table:
    """Configurations as columns where the console is wide enough, else as rows."""
    wide = _wide_cells_table(rows, names)
    fits = wide.__rich_measure__(console, console.options.update(max_width=10_000)).maximum
    return wide if fits <= console.width else _long_cells_table(rows)


def _wide_cells_table(rows: Sequence[Sequence[Cell | None]], names: Sequence[str]) -> Table:
    """Series as rows, configurations as columns; the spread stands below the centre."""
    shown = [n for n in range(len(names)) if any(row[n] is not None for row in rows)]
    rows, names = [[row[n] for n in shown] for row in rows], [names[n] for n in shown]
    table = plain_table("workload and metric", *names, right=names)
    for row in rows:
        series = next((cell.series for cell in row if cell is not None), None)
        if series is not None:
            heading = f"{series.workload}\n{series.metric}, {series.unit}"
            table.add_row(heading, *(cell_text(cell, "\n") for cell in row))
    return table


def _long_cells_table(rows: Sequence[Sequence[Cell | None]]) -> Table:
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
        for number, cell in enumerate(cell for cell in row if cell is not None):
            series = cell.series
            heads = (series.workload, f"{series.metric}, {series.unit}") if not number else ("", "")
            centre, cv = significant(cell.centre), percent(cell.cv)
            table.add_row(*heads, cell.configuration, centre, cv, str(cell.runs))
    return table
