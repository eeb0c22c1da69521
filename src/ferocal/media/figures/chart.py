"""The figure of the overview chart: a row for every metric, better always to the right."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import matplotlib as mpl
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle
from matplotlib.ticker import FixedLocator, FuncFormatter, NullLocator

from ferocal.analysis.data.series import factor_of
from ferocal.documents.tables import short_centre
from ferocal.errors import NothingToShowError, UsageError
from ferocal.media.figures.style import (
    BAND,
    COLOURS,
    FAINT,
    INK,
    PALE,
    PAPER,
    STRIPE,
    TEXT_BOX,
    plain_axes,
)
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.chart import ChartRow, Elsewhere, RatioChart

_MARKS = ("s", "o", "D", "^", "v", "P", "X", "<", ">", "p")
# Ratios at which the axis may have a mark.
_TICKS = (
    0.1,
    0.2,
    0.3,
    0.5,
    0.6,
    0.7,
    0.8,
    0.9,
    0.95,
    1,
    1.05,
    1.1,
    1.2,
    1.3,
    1.5,
    2,
    3,
    5,
    10,
    20,
)
_LEAST_APART = 0.08  # of the width of the axis, between two marks
MOST_CONFIGURATIONS = 10
# Of more rows those with the largest gains are drawn, which fit one page.
MOST_ROWS = 14
_MOST_REFERENCES, _MOST_BESIDE = 3, 2


def draw(chart: RatioChart) -> Figure:
    """Every metric as a row: changes against the baseline on an axis of ratios.

    Marks that are filled are the best of their row, or not shown to differ from that.

    Raises
    ------
    UsageError
        When nothing is known to be drawn, or there are more configurations than can be told apart.
    """
    if len(chart.configurations) > MOST_CONFIGURATIONS:
        raise UsageError(
            f"{len(chart.configurations)} configurations cannot be told apart in a chart: name up "
            f"to {MOST_CONFIGURATIONS} with --configuration"
        )
    rows = sorted(chart.drawn, key=lambda row: -row.largest)[:MOST_ROWS]
    if not rows:
        raise NothingToShowError("nothing to draw: no change against the baseline is known")
    height = max(3.6, min(8.0, 1.7 + 0.5 * len(rows)))
    figure = Figure(figsize=(12.8, height), layout="constrained")
    figure.suptitle(chart.question, x=0.01, ha="left", fontweight="bold")
    axes = figure.subplots()
    axes.set_xlim(*_limits(rows))
    axes.set_ylim(len(rows) - 0.5, -0.5)
    for place, row in enumerate(rows):
        _draw_row(axes, chart, row, place)
    axes.axvline(0.0, color=INK, lw=1.2)
    axes.set_yticks(range(len(rows)), [_row_name(row, chart) for row in rows])
    _ratio_axis(axes, chart)
    _key(axes, chart)
    return figure


def _limits(rows: Sequence[ChartRow]) -> tuple[float, float]:
    """The ends of the axis: all intervals and references, and room for labels at the right."""
    ends = [0.0]
    for row in rows:
        ends += [-1.5 * row.margin, 1.5 * row.margin]
        for cell in row.cells.values():
            ends += [x for x in (cell.gain, cell.low, cell.high) if math.isfinite(x)]
        ends += [reference.gain for reference in nearest_references(row)]
    low, high = min(ends), max(ends)
    span = max(high - low, 0.02)
    return low - 0.03 * span, high + 0.26 * span


def _row_name(row: ChartRow, chart: RatioChart) -> str:
    base = row.cells.get(row.reference)
    value = "" if base is None else f"  {short_centre(base.cell)} {row.series.unit}"
    arrow = "↑" if row.series.better == "higher" else "↓"
    against = "" if row.reference == chart.baseline else f"\nagainst {row.reference}"
    return f"{row.series.title}{value} {arrow}{against}"


def _draw_row(axes: Axes, chart: RatioChart, row: ChartRow, place: int) -> None:
    """The margin, the interval before the mark of each configuration, and the best by name."""
    if place % 2:
        axes.axhspan(place - 0.5, place + 0.5, color=STRIPE, zorder=0, lw=0)
    if math.isfinite(row.margin):
        corner, size = (-row.margin, place - 0.5), (2 * row.margin, 1.0)
        axes.add_patch(Rectangle(corner, *size, color=BAND, lw=0, zorder=1))
    names = [name for name in chart.configurations if name != chart.baseline]
    step = 0.8 / max(1, len(names))
    some_best = any(cell.best for cell in row.cells.values())
    for number, name in enumerate(names):
        cell = row.cells.get(name)
        if cell is None or math.isnan(cell.gain) or name == row.reference:
            continue
        y = place - 0.4 + step * (number + 0.5)
        colour, mark = _look(number)
        if math.isfinite(cell.low):
            axes.hlines(y, cell.low, cell.high, color=colour, lw=2.4, alpha=0.45, zorder=3)
        face = colour if cell.best else PAPER if some_best else PALE
        axes.plot(cell.gain, y, mark, ms=5.6, mec=colour, mfc=face, mew=1.3, zorder=4)
        if cell.cell.bound:
            further = "→" if (cell.cell.bound == ">") == (row.series.better == "higher") else "←"
            axes.annotate(
                further, (cell.gain, y), xytext=(12 if further == "→" else -12, 0), ha="center",
                va="center", textcoords="offset points", color=colour, fontweight="bold",
            )  # fmt: skip
    drawn = nearest_references(row)
    if rest := len(row.references) - len(drawn):
        axes.annotate(
            f"{rest} more from elsewhere", (0.0, place), xycoords=("axes fraction", "data"),
            xytext=(4, -9), textcoords="offset points", fontsize=7.5, color=FAINT, va="top",
        )  # fmt: skip
    for reference in drawn:
        device, gain = reference.device, reference.gain
        axes.plot(gain, place, "d", ms=7, mec=FAINT, mfc="none", mew=1.2, zorder=2)
        axes.annotate(
            device, (gain, place), xytext=(6, -1), va="center",
            textcoords="offset points", fontsize=7.5, color=FAINT,
        )  # fmt: skip
    _name_best(axes, chart, row, place)


def nearest_references(row: ChartRow) -> list[Elsewhere]:
    """The references next to ours: those nearest above the best of ours, and below the worst.

    Of those between ours the ones nearest to the middle.
    """
    gains = [cell.gain for cell in row.cells.values() if not math.isnan(cell.gain)]
    low, high = min(gains, default=0.0), max(gains, default=0.0)
    ordered = sorted(row.references, key=lambda reference: reference.gain)
    above = [r for r in ordered if r.gain > high][:_MOST_BESIDE]
    below = [r for r in ordered if r.gain < low][::-1][:_MOST_BESIDE]
    middle = (low + high) / 2
    between = sorted(
        (r for r in ordered if low <= r.gain <= high), key=lambda r: abs(r.gain - middle)
    )
    chosen = [*above[:1], *below[:1], *between, *above[1:], *below[1:]][:_MOST_REFERENCES]
    return sorted(chosen, key=lambda reference: reference.gain)


def _look(number: int) -> tuple[str, str]:
    return COLOURS[number % len(COLOURS)], _MARKS[number % len(_MARKS)]


def _name_best(axes: Axes, chart: RatioChart, row: ChartRow, place: int) -> None:
    """Who is best, and with whom it is tied, at the right end of the row."""
    tied = [name for name in chart.configurations if name in row.cells and row.cells[name].best]
    first = next((n for n, cell in row.cells.items() if cell.leads), None)
    if first is None:
        return
    others = len(tied) - 1
    text = f"{first} {gain_text(row.cells[first].gain)}"
    if first == row.reference:
        text = first
    if others:
        text += f" and {others} tied"
    axes.annotate(
        text, (1.0, place), xycoords=("axes fraction", "data"), xytext=(-4, 0),
        textcoords="offset points", ha="right", va="center", fontsize=8.5, color=INK,
        bbox=TEXT_BOX, zorder=6,
    )  # fmt: skip


def gain_text(gain: float) -> str:
    """A gain as how much better, such as "+15.7 %", or as a factor where it is large."""
    factor = factor_of(gain)
    if factor >= 2 or factor <= 0.5:
        return f"×{significant(factor, 3)}"
    return f"{100 * (factor - 1):+.1f} %".replace("-", "−")


def _ratio_axis(axes: Axes, chart: RatioChart) -> None:
    low, high = axes.get_xlim()
    chosen = [1.0]
    for ratio in sorted(_TICKS, key=lambda r: abs(math.log(r))):
        at = math.log(ratio)
        free = all(abs(at - math.log(c)) > _LEAST_APART * (high - low) for c in chosen)
        if low <= at <= high and (free or ratio == 1.0):
            chosen.append(ratio)
    axes.xaxis.set_major_locator(FixedLocator(sorted({math.log(r) for r in chosen})))
    axes.xaxis.set_minor_locator(NullLocator())

    def name(x: float, _: int) -> str:
        if abs(x) < 1e-9:
            return "no change"
        factor = factor_of(x)
        if not 0.5 < factor < 2:
            return f"×{factor:.3g}"
        return f"{100 * (factor - 1):+.3g} %".replace("-", "−")

    axes.xaxis.set_major_formatter(FuncFormatter(name))
    level = f"{100 * chart.confidence:.4g} %"
    axes.set_xlabel(
        f"against {chart.baseline}: better always to the right (ratio axis; lines: {level} "
        "intervals; grey band: the margin)"
    )
    axes.tick_params(axis="y", length=0)
    plain_axes(axes)
    axes.grid(axis="y", visible=False)


def _key(axes: Axes, chart: RatioChart) -> None:
    """Marks and names above the rows, in the order in which they stand in each row."""
    names = [name for name in chart.configurations if name != chart.baseline]
    handles = []
    for number, name in enumerate(names):
        colour, mark = _look(number)
        handles.append(
            mpl.lines.Line2D([], [], color=colour, marker=mark, mfc=colour, lw=2.4, label=name)
        )
    hollow = "hollow: another is significantly better"
    handles.append(mpl.lines.Line2D([], [], color=INK, marker="o", mfc=PAPER, lw=0, label=hollow))
    if any(row.references for row in chart.rows):
        handles.append(
            mpl.lines.Line2D([], [], color=FAINT, marker="d", mfc="none", lw=0, ms=7,
                             label="from elsewhere")
        )  # fmt: skip
    axes.legend(
        handles=handles, loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=min(8, len(handles)),
        frameon=False, fontsize=9, handletextpad=0.5, columnspacing=1.4,
    )  # fmt: skip
