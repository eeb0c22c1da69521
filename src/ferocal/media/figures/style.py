"""The one style of all figures; they draw finished results and compute no statistics.

Colours have names, of which `drawing` makes those for a light or a dark ground. Matplotlib is
imported where it is used.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

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


# The size of a figure in inches; None for that which fits its kind.
Size = tuple[float, float] | None
# Signs that fit an inch: of titles, of keys, of notes, and of names beside axes.
_TITLE, _KEY, _NOTE, _NAME = 8.6, 11.0, 13.5, 3.4
# In narrower figures, such as slides, the less important is left out.
_NARROW = 8.0
# Notes have this name, by which a slide leaves them out.
_NOTE_ID = "note"
# Letters of a slide are at least so large, in points of a figure of 300 dots an inch.
LEAST_LETTERS = 7.0


def is_narrow(figure: Figure) -> bool:
    """Whether there is room for the essential only, as on a slide."""
    return figure.get_figwidth() < _NARROW


def fitted(name: str, figure: Figure, share: float = 1.0) -> str:
    """A name that fits beside axes; its end is kept, since names often differ there."""
    most = max(12, int(_NAME * share * figure.get_figwidth()))
    if len(name) <= most:
        return name
    head = (most - 1) // 2
    return f"{name[:head]}…{name[len(name) - (most - 1 - head) :]}"


def _folded(text: str, width: float, most: int) -> str:
    import textwrap

    return textwrap.fill(
        text, max(24, int(width)), max_lines=most, break_on_hyphens=False, placeholder=" …"
    )


def title_of(figure: Figure, text: str, size: float = 12.0) -> None:
    """The title above a figure, folded to its width."""
    lines = _folded(text, _TITLE * 13 / size * figure.get_figwidth(), 3)
    figure.suptitle(lines, x=0.012, ha="left", fontweight="bold", fontsize=size)


def note_below(place: Axes | Figure, *lines: str) -> None:
    """What the axes are and what is not drawn, folded below axes or a whole figure."""
    figure: Any = getattr(place, "figure", None) or place
    width = _NOTE * figure.get_figwidth() * 0.8
    text = "\n".join(_folded(line, width, 3) for line in lines if line)
    name = place.set_xlabel if hasattr(place, "set_xlabel") else place.supxlabel
    name(text, fontsize=9, color=FAINT, gid=_NOTE_ID)


def make_slide(figure: Figure, title: str, source: str) -> None:
    """Turn a figure into a slide: the answer as its title, the source small at its foot."""
    import matplotlib as mpl

    title_of(figure, title, 13.0)
    for text in figure.findobj(mpl.text.Text):
        if text.get_gid() == _NOTE_ID:
            text.set_text("")
        elif float(text.get_fontsize()) < LEAST_LETTERS:
            text.set_fontsize(LEAST_LETTERS)
    foot = _folded(source, _NOTE * 1.2 * figure.get_figwidth(), 1)
    figure.text(0.985, 0.015, foot, ha="right", va="bottom", fontsize=LEAST_LETTERS, color=FAINT)
    layout: Any = figure.get_layout_engine()
    if layout is not None:
        layout.set(rect=(0.01, 0.06, 0.98, 0.93))


def key_above(axes: Axes, handles: list[Any], share: float = 1.0, lift: float = 0.0) -> None:
    """Marks and names above axes, in as many lines as their ``share`` of the width needs."""
    width = max(len(str(handle.get_label())) for handle in handles) + 5
    figure: Any = axes.figure
    room = _KEY * share * figure.get_figwidth()
    axes.legend(
        handles=handles, loc="lower left", bbox_to_anchor=(0.0, 1.0 + lift),
        ncols=max(1, min(len(handles), int(room / width))), frameon=False, fontsize=9,
        handletextpad=0.5, columnspacing=1.4, borderaxespad=0.2,
    )  # fmt: skip


def label_ends(axes: Axes, ends: Sequence[tuple[str, float, float, str]]) -> None:
    """Names with colours beside the ends of lines at (x, y), moved apart where they would touch."""
    figure: Any = axes.figure
    height = axes.get_position().height * figure.get_figheight() * 72  # in points
    low, high = axes.transAxes.inverted(), axes.transData
    places = [(float(low.transform(high.transform((x, y)))[1]), n, c) for n, x, y, c in ends]
    places.sort()
    least = min(13.0 / max(height, 1.0), 1.0 / max(1, len(places)))
    spread: list[float] = []
    for at, _, _ in places:
        spread.append(max(at, spread[-1] + least) if spread else max(at, 0.0))
    over = max(0.0, spread[-1] - 1.0) if spread else 0.0
    for (_, name, colour), at in zip(places, spread, strict=True):
        axes.annotate(
            fitted(name, figure, 0.7), (1.0, at - over), xycoords="axes fraction", xytext=(6, 0),
            textcoords="offset points", va="center", color=colour, fontweight="bold", fontsize=9,
            annotation_clip=False,
        )  # fmt: skip


def with_own_colours(figure: Figure) -> Figure:
    """A figure whose colours stay what they are when others are drawn on another ground."""
    from matplotlib.colors import to_rgba

    for artist in figure.findobj():
        for name in ("color", "markerfacecolor", "markeredgecolor"):
            get, put = getattr(artist, f"get_{name}", None), getattr(artist, f"set_{name}", None)
            if get is not None and put is not None and isinstance(get(), str):
                put(to_rgba(get()) if get() != "none" else "none")
    return figure


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
