"""Small panels beside each other, one for each metric, with configurations as rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeVar

from matplotlib.figure import Figure

from ferocal.media.figures.style import Size, fitted, note_below, title_of
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from matplotlib.axes import Axes

# More panels than this cannot be read on one page.
MOST_PANELS = 12
Panel = TypeVar("Panel")


def draw_panels(
    question: str,
    panels: Sequence[Panel],
    titles: Sequence[str],
    names: Sequence[str],
    draw_one: Callable[[Axes, Panel], None],
    size: Size,
    below: Sequence[str],
) -> Figure:
    """A panel for each metric, two beside each other, with a row for every name.

    Names stand at the left panels only; what has no room is named below.
    """
    shown = panels[:MOST_PANELS]
    across = 1 if len(shown) == 1 else 2
    down = -(-len(shown) // across)
    height = 1.0 + down * (0.75 + 0.24 * len(names))
    figure = Figure(figsize=size or (12.8, max(2.8, height)), layout="constrained")
    title_of(figure, question)
    grid = figure.subplots(down, across, squeeze=False)
    for place, axes in enumerate(grid.flat):
        if place >= len(shown):
            axes.set_visible(False)
            continue
        axes.set_ylim(len(names) - 0.5, -0.5)
        labels = [fitted(name, figure) for name in names]
        axes.set_yticks(range(len(names)), labels if place % across == 0 else [], fontsize=8.5)
        axes.tick_params(axis="y", length=0)
        title = fitted(titles[place], figure, 1.6 if across == 1 else 1.3)
        axes.set_title(title, loc="left", fontsize=9.5, fontweight="bold")
        draw_one(axes, shown[place])
        axes.grid(axis="y", visible=False)
    left = f"not drawn: {listed(titles[MOST_PANELS:])}" if len(panels) > len(shown) else ""
    note_below(figure, *below, left)
    return figure
