"""The one style of all figures; they draw finished results and compute no statistics.

Matplotlib is imported where it is used.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.traces import TraceCurves

INK = "#1c2833"
FAINT = "#8a949e"
# Apart from each other for every common kind of colour vision.
COLOURS = ("#1b6ca8", "#c75c12", "#4b5661", "#7a3e9d", "#2a8c6a", "#a8871b")
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "text.parse_math": False,  # a name or unit may have a "$"
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "svg.fonttype": "none",
    "svg.hashsalt": "ferocal",  # the same figure gives the same bytes
}


_DASHES: Any = ("-", (0, (5, 2)), (0, (2, 1.5)), (0, (6, 2, 1.5, 2)))


def line_style(number: int) -> dict[str, Any]:
    """The colour and the dashes of one of several lines."""
    return {
        "color": COLOURS[number % len(COLOURS)],
        "linestyle": _DASHES[number % len(_DASHES)],
    }


def trace_title(drawn: TraceCurves) -> str:
    """The title of a figure of traces."""
    return f"{drawn.metric.workload}: {drawn.metric.name}, {drawn.bench}"


def plain_axes(axes: Axes) -> None:
    """Axes without frame, with a faint grid behind what is drawn."""
    axes.grid(color="#e8ecef", lw=0.7)
    axes.set_axisbelow(True)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
