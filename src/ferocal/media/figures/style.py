"""The one style of all figures; they draw finished results and compute no statistics.

Colours have names, of which `drawing` makes those for a light or a dark ground. Matplotlib is
imported where it is used.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.traces import TraceCurves

INK, FAINT, PAPER = "ferocal:ink", "ferocal:faint", "ferocal:paper"
GRID, STRIPE, BAND, PALE = "ferocal:grid", "ferocal:stripe", "ferocal:band", "ferocal:pale"
# Apart from each other for every common kind of colour vision.
COLOURS = tuple(f"ferocal:{number}" for number in range(1, 7))
# By name, the colour on a light ground and on a dark one.
_PALETTE = {
    INK: ("#1c2833", "#dde3e8"),
    FAINT: ("#5f6a74", "#a3adb6"),
    PAPER: ("#ffffff", "#14191f"),
    GRID: ("#e8ecef", "#262f38"),
    STRIPE: ("#f6f8f9", "#191f26"),
    BAND: ("#dfe4e8", "#2c3742"),
    PALE: ("#cfd5da", "#56616b"),
    **dict(
        zip(
            COLOURS,
            (
                ("#1b6ca8", "#6cb4ec"),
                ("#c75c12", "#f09a57"),
                ("#4b5661", "#b3bec8"),
                ("#7a3e9d", "#c79ae2"),
                ("#2a8c6a", "#5fcba1"),
                ("#a8871b", "#dcbf55"),
            ),
            strict=True,
        )
    ),
}
# What stands for a colour in a page, which knows whether its ground is light or dark.
ON_PAGE = {light: f"var(--fig-{name.partition(':')[2]})" for name, (light, _) in _PALETTE.items()}
_STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "text.parse_math": False,  # a name or unit may have a "$"
    "figure.facecolor": PAPER,
    "axes.facecolor": PAPER,
    "savefig.facecolor": PAPER,
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "svg.fonttype": "none",
    "pdf.fonttype": 42,
    "svg.hashsalt": "ferocal",  # the same figure gives the same bytes
}
# Marks that can be told apart without colour.
MARKS = ("o", "s", "D", "^", "v", "P", "X", "<", ">", "p")
_DASHES: Any = ("-", (0, (5, 2)), (0, (2, 1.5)), (0, (6, 2, 1.5, 2)))
# A box behind a text that may lie on lines.
TEXT_BOX: Any = {"facecolor": PAPER, "edgecolor": "none", "alpha": 0.85, "pad": 1}


@contextmanager
def drawing(*, dark: bool = False) -> Iterator[None]:
    """Within it figures are drawn and saved in our style, on a light or a dark ground."""
    import matplotlib as mpl
    from matplotlib.colors import get_named_colors_mapping

    named: Any = get_named_colors_mapping()
    named.update({name: colours[dark] for name, colours in _PALETTE.items()})
    named.cache.clear()
    with mpl.rc_context(_STYLE):
        yield


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
    axes.grid(color=GRID, lw=0.7)
    axes.set_axisbelow(True)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
