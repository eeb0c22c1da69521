"""The figure of readings: every run as a dot in the order of time, a condition beneath."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure

from ferocal.documents.blocks import run_anchor
from ferocal.media.figures.style import COLOURS, FAINT, MARKS, PAPER, plain_axes
from ferocal.terms.conditions import label_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.readings import Dot, RunDots

# More dots than this are drawn as a picture, without links to their runs.
_MOST_LINKED = 2000


def draw(drawn: RunDots) -> Figure:
    """Dots over the order of runs; hollow ones do not count, arrows are bounds.

    Each configuration has a colour and a mark, and its name at the right end.
    """
    rows = 1 + bool(drawn.condition)
    height = 3.0 + 1.1 * (rows - 1)
    figure = Figure(figsize=(12.8, height))
    figure.subplots_adjust(0.06, 0.55 / height, 0.99, 1 - 0.32 / height, hspace=0.3)
    ratios = [3.0, 1.0][:rows]
    panels = figure.subplots(rows, 1, sharex=True, squeeze=False, height_ratios=ratios)[:, 0]
    names = drawn.configurations
    for number, name in enumerate(names):
        dots = [dot for dot in drawn.dots if dot.configuration == name]
        _draw(panels[0], dots, number, linked=len(drawn.dots) <= _MOST_LINKED)
    panels[0].margins(x=0.015, y=0.12)
    panels[0].set_ylabel(drawn.series.unit)
    plain_axes(panels[0])
    if drawn.condition:
        known = [dot for dot in drawn.dots if dot.condition is not None]
        panels[1].plot(
            [dot.place for dot in known], [dot.condition for dot in known], ".", ms=3, color=FAINT
        )
        panels[1].set_title(label_of(drawn.condition), loc="left", fontsize=9)
        panels[1].margins(y=0.25)
        plain_axes(panels[1])
    _dress_bottom(panels[-1], drawn)
    panels[0].legend(
        loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=min(6, len(names)), frameon=False,
        fontsize=9, handletextpad=0.1, columnspacing=1.2,
    )  # fmt: skip
    return figure


def _draw(axes: Axes, dots: list[Dot], number: int, *, linked: bool) -> None:
    colour = COLOURS[number % len(COLOURS)]
    label: str | None = dots[0].configuration
    kinds: Any = {}
    for dot in dots:
        kinds.setdefault((bool(dot.excuse), dot.bound), []).append(dot)
    for (excused, bound), found in sorted(kinds.items(), key=lambda kind: str(kind[0])):
        mark = {">": "^", "<": "v", None: MARKS[number % len(MARKS)]}[bound]
        drawn = axes.scatter(
            [dot.place for dot in found],
            [dot.value for dot in found],
            marker=mark,
            s=22,
            color=PAPER if excused else colour,
            edgecolors=colour,
            linewidths=1.0,
            label=label,
            rasterized=not linked,
            zorder=3,
        )
        label = None
        if linked:
            drawn.set_urls([f"#{run_anchor(dot.run)}" for dot in found])


def _dress_bottom(axes: Axes, drawn: RunDots) -> None:
    """The first run of some days below the panel; what an order of unknown times is."""
    hollow = "; hollow: does not count" if any(dot.excuse for dot in drawn.dots) else ""
    if not drawn.in_time:
        axes.set_xticks([])
        axes.set_xlabel(f"as recorded (times unknown){hollow}")
        return
    days = [dot.at[:10] for dot in drawn.dots]
    first = [n for n, day in enumerate(days) if n == 0 or day != days[n - 1]]
    step = max(1, -(-len(first) // 10))
    chosen = first[::step]
    if len(set(days)) == 1:
        count = len(drawn.dots)
        chosen = sorted({int(n) for n in np.linspace(0, count - 1, min(6, count))})
        names = [drawn.dots[n].at[11:16] for n in chosen]
        axes.set_xlabel(f"runs in order of time, {days[0]} (UTC){hollow}")
    else:
        names = [days[n] for n in chosen]
        axes.set_xlabel(f"runs in order of time (UTC){hollow}")
    axes.set_xticks([drawn.dots[n].place for n in chosen], names, fontsize=8.5)
