"""The figure of scaling: how many times as fast with how much more of a resource."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, NullFormatter

from ferocal.media.figures.style import (
    COLOURS,
    FAINT,
    INK,
    MARKS,
    Size,
    label_ends,
    line_style,
    plain_axes,
    title_of,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.analysis.factors.results import Scaling
    from ferocal.answers.charts import ScalingChart

_MOST_LINES = 8


def draw(chart: ScalingChart, size: Size = None) -> Figure:
    """Speed against the least amount, a line for every metric, and the ideal dotted."""
    factors = list(dict.fromkeys(known.factor for known in chart.scaling))
    figure = Figure(figsize=size or (12.8, 0.8 + 4.6 * len(factors)), layout="constrained")
    title_of(figure, chart.question)
    panels = figure.subplots(len(factors), 1, squeeze=False)[:, 0]
    for axes, factor in zip(panels, factors, strict=True):
        own = [known for known in chart.scaling if known.factor == factor]
        _draw(axes, own[:_MOST_LINES], factor)
        left = [known.series.title for known in own[_MOST_LINES:]]
        more = f"; not drawn: {', '.join(left)}" if left else ""
        axes.set_xlabel(f"{factor} (dotted: ideal){more}")
    return figure


def _draw(axes: Axes, scaling: list[Scaling], factor: str) -> None:
    ends = []
    most = 1.0
    for number, known in enumerate(scaling):
        x = np.array([known.least, *(step.amount for step in known.steps)])
        y = np.array([1.0, *(1 + step.speed.change for step in known.steps)])
        low = np.array([math.nan, *(1 + step.speed.low for step in known.steps)])
        high = np.array([math.nan, *(1 + step.speed.high for step in known.steps)])
        colour = COLOURS[number % len(COLOURS)]
        sure = np.isfinite(low)
        axes.vlines(x[sure], low[sure], high[sure], color=colour, lw=3, alpha=0.4)
        axes.plot(x, y, marker=MARKS[number % len(MARKS)], ms=5.5, lw=1.6, **line_style(number))
        ends.append((known.series.title, float(x[-1]), float(y[-1]), colour))
        most = max(most, float(x[-1] / x[0]))
    least = min(known.least for known in scaling)
    amounts = sorted({a for k in scaling for a in (k.least, *(s.amount for s in k.steps))})
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.plot([least, least * most], [1.0, most], ":", color=FAINT, lw=1.4)
    axes.axhline(1.0, color=INK, lw=0.8)
    axes.set_xticks(amounts, [f"{amount:g}" for amount in amounts])
    axes.xaxis.set_minor_formatter(NullFormatter())
    marks = [m for m in (0.5, 0.7, 1, 1.5, 2, 3, 4, 6, 8, 12, 16, 32, 64) if m <= 1.2 * most]
    axes.set_yticks(marks)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"×{value:g}"))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.set_ylabel("times as fast")
    plain_axes(axes)
    label_ends(axes, ends)
