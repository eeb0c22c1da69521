"""The figure of readings: every run as a dot in the order of time, a condition beneath."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from ferocal.documents.blocks import run_anchor
from ferocal.documents.charts import dots_title
from ferocal.media.figures.style import (
    COLOURS,
    FAINT,
    MARKS,
    PAPER,
    Size,
    fitted,
    key_above,
    note_below,
    plain_axes,
    title_of,
)
from ferocal.terms.conditions import label_of
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.readings import Dot, DotsChart, RunDots

# More dots than this are drawn as a picture, without links to their runs.
_MOST_LINKED = 2000
# More panels than this cannot be read on one page.
_MOST_PANELS = 6


def draw(chart: DotsChart, size: Size = None) -> Figure:
    """Dots over the order of runs, a panel for each metric; arrows are bounds.

    Each configuration has a colour and a mark; hollow ones do not count.
    """
    shown = chart.panels[:_MOST_PANELS]
    ratios = [r for dots in shown for r in ([3.0, 1.0] if dots.condition else [3.0])]
    height = 0.75 + 0.7 * sum(ratios) if chart.question else 0.9 + 0.72 * sum(ratios)
    figure = Figure(figsize=size or (12.8, height))
    if chart.question:
        figure.set_layout_engine("constrained")
        title_of(figure, chart.question)
    else:  # one of many on a page, where laying out each would take long
        figure.subplots_adjust(0.06, 0.52 / height, 0.99, 1 - 0.32 / height, hspace=0.35)
    grid = iter(figure.subplots(len(ratios), 1, squeeze=False, height_ratios=ratios)[:, 0])
    names = list(dict.fromkeys(name for dots in shown for name in dots.configurations))
    first: Axes | None = None
    for dots in shown:
        axes = next(grid)
        first = first or axes
        lowest = _draw(axes, dots, names, next(grid) if dots.condition else None)
        _dress_bottom(lowest, dots)
        if chart.question:
            title = fitted(dots_title(dots), figure, 1.8)
            axes.set_title(title, loc="left", fontsize=9.5, y=1.0, fontweight="bold")
    assert first is not None
    if len(names) > 1:
        _key(first, names, above_title=bool(chart.question))
    left = [dots_title(dots) for dots in chart.panels[_MOST_PANELS:]]
    if left:
        note_below(figure, f"not drawn: {listed(left)}")
    return figure


def _draw(axes: Axes, dots: RunDots, names: list[str], beneath: Axes | None) -> Axes:
    """The dots of a metric, and the condition beneath; the lower one of both axes."""
    linked = len(dots.dots) <= _MOST_LINKED
    for name in dots.configurations:
        own = [dot for dot in dots.dots if dot.configuration == name]
        _draw_dots(axes, own, names.index(name), linked=linked)
    axes.margins(x=0.015, y=0.12)
    axes.set_ylabel(dots.series.unit)
    plain_axes(axes)
    if beneath is None:
        return axes
    known = [(dot.place, dot.condition) for dot in dots.dots if dot.condition is not None]
    beneath.plot([p for p, _ in known], [c for _, c in known], ".", ms=3, color=FAINT)
    beneath.set_title(label_of(dots.condition), loc="left", fontsize=9)
    beneath.margins(y=0.25)
    beneath.set_xlim(axes.get_xlim())
    axes.tick_params(axis="x", labelbottom=False)
    plain_axes(beneath)
    return beneath


def _draw_dots(axes: Axes, dots: list[Dot], number: int, *, linked: bool) -> None:
    colour = COLOURS[number % len(COLOURS)]
    kinds: dict[tuple[bool, str], list[Dot]] = {}
    for dot in dots:
        kinds.setdefault((bool(dot.excuse), dot.bound or ""), []).append(dot)
    for (excused, bound), found in sorted(kinds.items()):
        drawn = axes.scatter(
            [dot.place for dot in found],
            [dot.value for dot in found],
            marker={">": "^", "<": "v"}.get(bound, MARKS[number % len(MARKS)]),
            s=22,
            color=PAPER if excused else colour,
            edgecolors=colour,
            linewidths=1.0,
            rasterized=not linked,
            zorder=3,
        )
        if linked:
            drawn.set_urls([f"#{run_anchor(dot.run)}" for dot in found])


def _key(axes: Axes, names: list[str], *, above_title: bool) -> None:
    figure: Any = axes.figure
    handles: list[Any] = [
        Line2D(
            [],
            [],
            marker=MARKS[n % len(MARKS)],
            color=COLOURS[n % len(COLOURS)],
            lw=0,
            label=fitted(name, figure),
        )
        for n, name in enumerate(names)
    ]
    key_above(axes, handles, lift=0.16 if above_title else 0.0)


def _dress_bottom(axes: Axes, dots: RunDots) -> None:
    """The times of some runs below the panel; what the order is where times are unknown."""
    hollow = "; hollow: does not count" if any(dot.excuse for dot in dots.dots) else ""
    if not dots.in_time:
        axes.set_xticks([])
        axes.set_xlabel(f"as recorded (times unknown){hollow}", fontsize=8.5)
        return
    days = [dot.at[:10] for dot in dots.dots]
    if len(set(days)) == 1:
        count = len(days)
        chosen = sorted({int(n) for n in np.linspace(0, count - 1, min(6, count))})
        minutes = [dots.dots[n].at[11:16] for n in chosen]
        distinct = len(set(minutes)) == len(minutes)
        names = minutes if distinct else [dots.dots[n].at[11:19] for n in chosen]
        axes.set_xlabel(f"runs in order of time, {days[0]} (UTC){hollow}", fontsize=8.5)
    else:
        first = [n for n, day in enumerate(days) if n == 0 or day != days[n - 1]]
        least = max(1, len(days) // 9)  # runs between two dates, so that they do not overlap
        chosen = []
        for n in first:
            if not chosen or n - chosen[-1] >= least:
                chosen.append(n)
        names = [days[n] for n in chosen]
        axes.set_xlabel(f"runs in order of time (UTC){hollow}", fontsize=8.5)
    axes.set_xticks([dots.dots[n].place for n in chosen], names, fontsize=8.5)
