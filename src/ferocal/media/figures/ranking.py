"""The figure of a ranking: contestants in their order, each with the interval of its value."""

from __future__ import annotations

from typing import TYPE_CHECKING

from matplotlib.figure import Figure

from ferocal.documents.charts import standing_text
from ferocal.documents.rank import rank_text, ranking_name
from ferocal.media.figures.rows import ROW_HEIGHT, DrawnRow, Look, draw_rows
from ferocal.media.figures.style import COLOURS, Size, note_below, title_of

if TYPE_CHECKING:
    from ferocal.answers.charts import RankedChart


def draw(chart: RankedChart, size: Size = None) -> Figure:
    """A row for every contestant: rank and name, interval, value and chance of being first.

    Filled marks may be first.
    """
    rows = [
        DrawnRow(
            f"{rank_text(standing.rank_best, standing.rank_worst)}   {name}",
            reach,
            standing_text(standing),
            Look("o", COLOURS[0], standing.rank_best == 1),
        )
        for name, standing, reach in chart.rows
    ]
    height = 1.7 + 1.5 * ROW_HEIGHT * max(3, len(rows))
    figure = Figure(figsize=size or (12.8, height), layout="constrained")
    title_of(figure, chart.question)
    axes = figure.subplots()
    draw_rows(axes, rows, chart.ends)
    by = ranking_name(chart.ranking, chart.answer)
    level = f"{100 * chart.answer.confidence:.4g} %"
    note_below(
        axes,
        f"{by}, relative to {chart.against}: better to the right",
        f"lines: {level} intervals of the values; filled: may be first; equal ranks are "
        "statistical ties",
    )
    return figure
