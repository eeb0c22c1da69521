"""The figure of bars: values from zero with their intervals, a panel for every metric."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ferocal.analysis.inference.reach import value_end
from ferocal.documents.charts import not_drawn_text
from ferocal.documents.rank import value_text
from ferocal.media.figures.panels import draw_panels
from ferocal.media.figures.style import BAND, COLOURS, INK, Size, plain_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from ferocal.analysis.rank.standings import Ranking
    from ferocal.answers.charts import ValueChart

# Room at the end of a panel for the number of a bar, as a share of the longest bar.
_ROOM = 0.42


def draw(chart: ValueChart, size: Size = None) -> Figure:
    """Bars from zero, the interval over the end of each, and the value beside it.

    A bar several times as long as all others ends at an arrow.
    """
    names = list(dict.fromkeys(s.configuration for r in chart.panels for s in r.standings))
    order = {name: n for n, name in enumerate(sorted(names))}
    titles = [
        f"{r.series.title}, {r.series.unit} {'↑' if r.series.better == 'higher' else '↓'}"
        for r in chart.panels
    ]
    level = f"{100 * chart.confidence:.4g} %"
    return draw_panels(
        chart.question,
        chart.panels,
        titles,
        sorted(names),
        lambda axes, ranking: _draw(axes, ranking, order),
        size,
        [
            f"values on {chart.bench}, from zero; lines: {level} intervals",
            *not_drawn_text((), (), chart.undrawn),
        ],
    )


def _draw(axes: Axes, ranking: Ranking, order: dict[str, int]) -> None:
    end = value_end(s.value for s in ranking.standings)
    axes.set_xlim(0, end * (1 + _ROOM))
    for standing in ranking.standings:
        y, value = order[standing.configuration], standing.value
        shown = min(value, end)
        axes.barh(y, shown, height=0.62, color=BAND, edgecolor=COLOURS[0], lw=1.0, zorder=2)
        reach = shown
        if value > end:
            axes.plot(shown, y, ">", ms=7, color=COLOURS[0], zorder=4)
            reach = shown + 0.03 * end
        elif math.isfinite(standing.low):
            axes.hlines(y, standing.low, min(standing.high, 1.1 * end), color=INK, lw=1.6, zorder=3)
            reach = min(max(value, standing.high), 1.1 * end)
        axes.annotate(
            value_text(standing), (reach, y), xytext=(6, 0), textcoords="offset points",
            va="center", fontsize=8.5, zorder=5,
        )  # fmt: skip
    plain_axes(axes)
