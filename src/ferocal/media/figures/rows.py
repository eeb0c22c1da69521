"""Rows of intervals on one axis of ratios, which several figures are made of."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from matplotlib.patches import Rectangle
from matplotlib.ticker import FixedLocator, FuncFormatter, NullLocator

from ferocal.analysis.data.series import factor_of
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.media.figures.style import BAND, COLOURS, INK, PAPER, STRIPE, fitted, plain_axes
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.analysis.inference.reach import Reach

# Ratios at which the axis may have a mark.
_TICKS = (
    *(0.001, 0.01, 0.1, 0.2, 0.3, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 1),
    *(1.05, 1.1, 1.2, 1.3, 1.5, 2, 3, 5, 10, 30, 100, 1000),
)
_LEAST_APART = 1.6  # inches between two marks, of the width of the figure
# Room beside the ends of the axis for arrows, as a share of it.
_ROOM = 0.03
ROW_HEIGHT = 0.27  # in inches


class Look(NamedTuple):
    """How the mark of a row looks: its shape, its colour, and whether it is filled."""

    mark: str
    colour: str
    filled: bool


VERDICT_LOOKS = {
    Verdict.BETTER: Look("^", COLOURS[0], True),
    Verdict.WORSE: Look("v", COLOURS[1], True),
    Verdict.EQUIVALENT: Look("s", INK, True),
    Verdict.INCONCLUSIVE: Look("o", INK, False),
    Verdict.SEEN_ONCE: Look("D", INK, False),
    Verdict.NOT_JUDGED: Look("o", INK, False),
    Verdict.NOT_COMPARABLE: Look("X", INK, False),
}


@dataclass(frozen=True)
class DrawnRow:
    """A row with its name at the left and its number at the right; one without reach is a title."""

    name: str
    reach: Reach | None = None
    text: str = ""
    look: Look = VERDICT_LOOKS[Verdict.NOT_JUDGED]


def draw_rows(axes: Axes, rows: Sequence[DrawnRow], ends: tuple[float, float]) -> None:
    """The margin, the interval before the mark, and an arrow for what is off the axis."""
    span = ends[1] - ends[0]
    axes.set_xlim(ends[0] - _ROOM * span, ends[1] + _ROOM * span)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    for place, row in enumerate(rows):
        if row.reach is not None:
            _draw_row(axes, row, row.reach, place, ends)
    axes.axvline(0.0, color=INK, lw=1.0, zorder=2)
    figure: Any = axes.figure
    names = [fitted(row.name, figure, 1.3 if row.reach is None else 1.0) for row in rows]
    axes.set_yticks(range(len(rows)), names)
    for label, row in zip(axes.get_yticklabels(), rows, strict=True):
        label.set_fontweight("bold" if row.reach is None else "normal")
    axes.tick_params(axis="y", length=0)
    beside = axes.twinx()  # numbers beside the axis cover no mark
    beside.set_ylim(axes.get_ylim())
    beside.set_yticks(range(len(rows)), [row.text for row in rows])
    beside.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        beside.spines[side].set_visible(False)
    ratio_axis(axes)


def _draw_row(
    axes: Axes, row: DrawnRow, reach: Reach, place: int, ends: tuple[float, float]
) -> None:
    draw_ground(axes, place, reach.margin)
    draw_interval(axes, reach, place, row.look, ends)


def draw_ground(axes: Axes, place: int, margin: float) -> None:
    """What lies beneath the marks of a row: a stripe in every other one, and the margin."""
    if place % 2:
        axes.axhspan(place - 0.5, place + 0.5, color=STRIPE, zorder=0, lw=0)
    if math.isfinite(margin):
        corner, size = (-margin, place - 0.5), (2 * margin, 1.0)
        axes.add_patch(Rectangle(corner, *size, color=BAND, lw=0, zorder=1))


def draw_interval(
    axes: Axes, reach: Reach, y: float, look: Look, ends: tuple[float, float], size: float = 6.0
) -> None:
    """An interval and its mark, cut at the ends of the axis; an arrow where the mark is beyond."""
    if not math.isnan(reach.low):
        low, high = max(reach.low, ends[0]), min(reach.high, ends[1])
        if low < high:
            axes.hlines(y, low, high, color=look.colour, lw=2.4, alpha=0.5, zorder=3)
    if ends[0] <= reach.mean <= ends[1]:
        face = look.colour if look.filled else PAPER
        axes.plot(reach.mean, y, look.mark, ms=size, mec=look.colour, mfc=face, mew=1.2, zorder=4)
        return
    right = reach.mean > 0
    axes.plot(
        ends[right], y, ">" if right else "<", ms=size, mec=look.colour, mfc=look.colour,
        zorder=4, clip_on=False,
    )  # fmt: skip


def ratio_axis(axes: Axes) -> None:
    """Marks at ratios that are easy to read, "no change" among them."""
    figure: Any = axes.figure
    low, high = axes.get_xlim()
    apart = _LEAST_APART / figure.get_figwidth()
    chosen = [1.0]
    for ratio in sorted(_TICKS, key=lambda r: abs(math.log(r))):
        at = math.log(ratio)
        free = all(abs(at - math.log(c)) > apart * (high - low) for c in chosen)
        if low <= at <= high and free:
            chosen.append(ratio)
    axes.xaxis.set_major_locator(FixedLocator(sorted({math.log(r) for r in chosen})))
    axes.xaxis.set_minor_locator(NullLocator())
    axes.xaxis.set_major_formatter(FuncFormatter(lambda x, _: ratio_text(x)))
    plain_axes(axes)
    axes.grid(axis="y", visible=False)


def ratio_text(shift: float) -> str:
    """A gain as it is read on an axis, such as "+5 %" or "×3"."""
    if abs(shift) < 1e-9:
        return "no change"
    factor = factor_of(shift)
    if not 0.5 < factor < 2:
        return f"×{factor:.3g}"
    return f"{100 * (factor - 1):+.3g} %".replace("-", "−")


def with_titles(rows: Sequence[tuple[str, DrawnRow]]) -> list[DrawnRow]:
    """Rows below the titles of their groups; a group of one row has its title in that."""
    groups: dict[str, list[DrawnRow]] = {}
    for title, row in rows:
        groups.setdefault(title, []).append(row)
    made: list[DrawnRow] = []
    for title, own in groups.items():
        made += [DrawnRow(title), *own]
    return made
