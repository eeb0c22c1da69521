"""The overview chart: as a compact table, and as a figure."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.console import Text, fold_with, plain_words, room, show_beside
from ferocal.render.grid import GridCell, Shape, arrange, lay_out
from ferocal.render.references import ELSEWHERE
from ferocal.render.tables import short_centre
from ferocal.terms.numbers import significant
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.chart import Chart, ChartRow

BEST, TIED = "*", "\N{ALMOST EQUAL TO}"
# The column of the best reference.
_ELSEWHERE = "from elsewhere"


def show_charts(console: Console, charts: tuple[Chart, ...]) -> None:
    """Print what was read of every metric, with the best of each row marked."""
    console.print(charts[0].question, style="bold", end="\n\n")
    shape = Shape(console.width, words=plain_words(console))
    for number, chart in enumerate(charts):
        if len(charts) > 1:
            console.print(f"{chr(10) if number else ''}bench {chart.bench}", style="bold")
        for line in _grid(chart, shape):
            console.print(line, soft_wrap=True)
    console.print()
    show_beside(console, "mind", list(_remarks(charts)))
    lines = fold_with("the figure", "ferocal chart -o chart.svg", room(console))
    lines += fold_with("who leads by all together", "ferocal rank", room(console))
    show_beside(console, "next", lines)


def _grid(chart: Chart, shape: Shape) -> Iterator[Text]:
    rows = {row.series: row for row in chart.rows}
    tied = "~" if shape.words else TIED

    def cells(series: Series) -> tuple[str, dict[str, GridCell]]:
        row = rows[series]
        found = {
            name: GridCell("–")
            if (cell := row.cells.get(name)) is None
            else GridCell(
                short_centre(cell.cell),
                "",
                BEST if cell.first else tied if cell.best else " ",
                "",
                "bold" if cell.best else "",
            )
            for name in chart.configurations
        }
        found[_ELSEWHERE] = GridCell(_elsewhere(row))
        return "", found

    heads = {name: name for name in chart.configurations}
    if any(row.references for row in chart.rows):
        heads[_ELSEWHERE] = _ELSEWHERE
    yield from lay_out(list(arrange(list(rows), shape, cells)), heads, shape)
    yield Text(f"{BEST} best of its row  {tied} not shown to differ from it", "dim")


def _elsewhere(row: ChartRow) -> str:
    """The best of the references, and how many more there are."""
    if not row.references:
        return ""
    best = max(row.references, key=lambda reference: reference.gain)
    rest = len(row.references) - 1
    more = f", {rest} more" if rest else ""
    return f"{ELSEWHERE} {significant(best.value, 4)} {best.device}{more}"


def _remarks(charts: tuple[Chart, ...]) -> Iterator[str]:
    left = list(dict.fromkeys(s.title for chart in charts for s in chart.left_out))
    if left:
        yield f"no ratios, so not here: {listed(left)}"
    if any(row.references for chart in charts for row in chart.rows):
        yield f"{ELSEWHERE} no runs are behind what is from elsewhere, and it is in no verdict"
    bounds = dict.fromkeys(
        row.series.title
        for chart in charts
        for row in chart.rows
        if any(cell.cell.bound for cell in row.cells.values())
    )
    if bounds:
        yield f"some are only bounds, so that no best is marked: {listed(list(bounds))}"
    cells = [x for c in charts for row in c.rows for x in row.cells.values() if not x.cell.bound]
    if any(math.isnan(cell.low) for cell in cells):
        yield "where nothing says how much visits vary, nothing is shown to differ"
