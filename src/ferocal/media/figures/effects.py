"""The figure of effects: a row for every comparison, with its interval and its number."""

from __future__ import annotations

from typing import TYPE_CHECKING

from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from ferocal.documents.charts import not_drawn_text
from ferocal.documents.numbers import change_with_half
from ferocal.media.figures.rows import (
    ROW_HEIGHT,
    VERDICT_LOOKS,
    DrawnRow,
    draw_rows,
    with_titles,
)
from ferocal.media.figures.style import PAPER, Size, key_above, note_below, title_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.analysis.data.series import Series
    from ferocal.answers.charts import IntervalChart

# More rows than this make a figure that cannot be read.
_MOST_ROWS = 90
# Besides the rows: title, key, axis, in inches.
_AROUND = 1.5


def draw(chart: IntervalChart, size: Size = None) -> Figure:
    """Every comparison as a row below its metric, all on one axis of ratios.

    Where there is no room for all metrics, those that change most are drawn, in their order.
    """
    room = _MOST_ROWS if size is None else max(3, int((size[1] - _AROUND) / (ROW_HEIGHT * 0.8)))
    drawn, left = _that_fit(chart, room)
    rows = with_titles(
        [
            (
                f"{row.series.title} {'↑' if row.series.better == 'higher' else '↓'}",
                DrawnRow(
                    row.label, row.reach, change_with_half(row.judged), VERDICT_LOOKS[row.verdict]
                ),
            )
            for row in chart.rows
            if row.series in drawn
        ]
    )
    own = (12.8, _AROUND + ROW_HEIGHT * max(4, len(rows)))
    figure = Figure(figsize=size or own, layout="constrained")
    title_of(figure, chart.question)
    axes = figure.subplots()
    draw_rows(axes, rows, chart.ends)
    _dress(axes, chart, left)
    return figure


def _that_fit(chart: IntervalChart, room: int) -> tuple[set[Series], list[Series]]:
    """The metrics that change most, as many as have room with their titles, and the others."""
    sizes: dict[Series, float] = {}
    counts: dict[Series, int] = {}
    for row in chart.rows:
        sizes[row.series] = max(sizes.get(row.series, 0.0), abs(row.reach.mean))
        counts[row.series] = counts.get(row.series, 1) + 1
    drawn: set[Series] = set()
    for series in sorted(sizes, key=lambda s: -sizes[s]):
        if counts[series] <= room or not drawn:
            drawn.add(series)
            room -= counts[series]
    return drawn, [series for series in sizes if series not in drawn]


def _dress(axes: Axes, chart: IntervalChart, left: list[Series]) -> None:
    level = f"{100 * chart.confidence:.4g} %"
    lines = [
        f"against {chart.against}: better to the right (lines: {level} intervals; grey: margin)"
    ]
    lines += not_drawn_text(left, chart.left_out)
    note_below(axes, *lines)
    shown = dict.fromkeys(row.verdict for row in chart.rows)
    handles = [
        Line2D(
            [],
            [],
            marker=look.mark,
            color=look.colour,
            mfc=look.colour if look.filled else PAPER,
            lw=0,
            label=str(verdict),
        )
        for verdict, look in VERDICT_LOOKS.items()
        if verdict in shown
    ]
    key_above(axes, handles)
