"""The figure of distributions: every run a dot beside those of the other configurations."""

from __future__ import annotations

import statistics
from typing import TYPE_CHECKING

import numpy as np

from ferocal.documents.charts import dots_title
from ferocal.media.figures.panels import draw_panels
from ferocal.media.figures.style import COLOURS, INK, PAPER, TEXT_BOX, Size, plain_axes
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from ferocal.answers.readings import DotsChart, RunDots

# Values so many interquartile ranges beyond the quartiles, and beyond the others, are arrows.
_FAR = 8.0


def draw(chart: DotsChart, size: Size = None) -> Figure:
    """Dots of all runs by configuration, spread within their row in the order of time.

    A line is the median; hollow dots do not count; an arrow is a bound, or far beyond all others,
    and then has its number.
    """
    names = list(dict.fromkeys(name for dots in chart.panels for name in dots.configurations))
    order = {name: n for n, name in enumerate(names)}
    titles = [dots_title(dots) for dots in chart.panels]
    return draw_panels(
        chart.question,
        chart.panels,
        titles,
        names,
        lambda axes, dots: _draw(axes, dots, order),
        size,
        [f"every run on {chart.bench}; line: median, hollow: not counted, arrow: bound or beyond"],
    )


def _draw(axes: Axes, dots: RunDots, order: dict[str, int]) -> None:
    low, high = _ends([dot.value for dot in dots.dots])
    span = high - low or abs(high) or 1.0
    axes.set_xlim(low - 0.06 * span, high + 0.06 * span)
    for name in dots.configurations:
        own = [dot for dot in dots.dots if dot.configuration == name]
        colour = COLOURS[order[name] % len(COLOURS)]
        near = [dot for dot in own if low <= dot.value <= high]
        spread = dict(zip((d.run for d in own), np.linspace(-0.3, 0.3, len(own)), strict=True))
        kinds = dict.fromkeys((bool(dot.excuse), dot.bound) for dot in near)
        for excused, bound in kinds:
            found = [d for d in near if (bool(d.excuse), d.bound) == (excused, bound)]
            axes.scatter(
                [dot.value for dot in found],
                [order[name] + spread[dot.run] for dot in found],
                marker=bound or "o",
                s=11, color=PAPER if excused else colour, edgecolors=colour, linewidths=0.8,
                alpha=0.8, zorder=3,
            )  # fmt: skip
        for right in (False, True):
            beyond = [d.value for d in own if (d.value > high if right else d.value < low)]
            if beyond:
                _point_beyond(axes, beyond, order[name], (low, high)[right], colour)
        counting = [dot.value for dot in own if not dot.excuse]
        if counting:
            middle = statistics.median(counting)
            axes.vlines(middle, order[name] - 0.42, order[name] + 0.42, color=INK, lw=1.8, zorder=4)
    plain_axes(axes)


def _point_beyond(axes: Axes, values: list[float], y: float, end: float, colour: str) -> None:
    """An arrow at the end of the axis with the numbers of what lies beyond."""
    right = min(values) > end
    axes.plot(end, y, ">" if right else "<", ms=6, color=colour, zorder=5)
    numbers = dict.fromkeys(significant(value, 3) for value in (min(values), max(values)))
    axes.annotate(
        " … ".join(numbers), (end, y), xytext=(-7 if right else 7, 0), va="center",
        textcoords="offset points", ha="right" if right else "left", fontsize=8, zorder=6,
        bbox=TEXT_BOX,
    )  # fmt: skip


def _ends(values: list[float]) -> tuple[float, float]:
    """The ends of the axis: those of all values but such as lie very far beyond the others."""
    first, third = np.percentile(values, [25, 75])
    reach = _FAR * (third - first) or abs(third) or 1.0
    inside = [v for v in values if first - reach <= v <= third + reach]
    return min(inside), max(inside)
