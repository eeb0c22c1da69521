"""The figure of the overview: a row for every metric, better always to the right."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from ferocal.analysis.inference.reach import Reach, ratio_ends
from ferocal.documents.charts import best_text, bound_sign, gain_text, not_drawn_text
from ferocal.documents.tables import short_centre
from ferocal.errors import NothingToShowError, UsageError
from ferocal.media.figures.rows import Look, draw_ground, draw_interval, ratio_axis
from ferocal.media.figures.style import (
    COLOURS,
    FAINT,
    INK,
    MARKS,
    PALE,
    PAPER,
    Size,
    fitted,
    key_above,
    note_below,
    title_of,
)
from ferocal.terms.wording import shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.chart import ChartCell, ChartRow, Elsewhere, RatioChart

MOST_CONFIGURATIONS = 10
# Of more rows those with the largest gains are drawn, which fit one page.
MOST_ROWS = 14
_MOST_REFERENCES, _MOST_BESIDE = 3, 2
# Title, key and axis, and a row of so many marks, in inches.
_AROUND, _ROW, _MARK = 1.6, 0.22, 0.11


def draw(chart: RatioChart, size: Size = None) -> Figure:
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
    rows = sorted(chart.drawn, key=lambda row: -row.largest)
    if not rows:
        raise NothingToShowError("nothing to draw: no change against the baseline is known")
    each = max(0.36, _ROW + _MARK * len(chart.configurations))
    room = MOST_ROWS if size is None else max(1, int((size[1] - _AROUND) / (0.8 * each)))
    rows, left = rows[:room], rows[room:]
    own = (12.8, max(3.2, _AROUND + each * len(rows)))
    figure = Figure(figsize=size or own, layout="constrained")
    title_of(figure, chart.question)
    axes = figure.subplots()
    _draw_rows(axes, chart, rows)
    level = f"{100 * chart.confidence:.4g} %"
    lines = [
        f"against {chart.baseline}: better always to the right (ratio axis; lines: {level} "
        "intervals; grey band: the margin)",
        *not_drawn_text([row.series for row in left], chart.left_out, chart.undrawn),
    ]
    note_below(axes, *lines)
    _key(axes, chart, rows)
    return figure


def _draw_rows(axes: Axes, chart: RatioChart, rows: Sequence[ChartRow]) -> None:
    cells = [_reach(c, row) for row in rows for c in row.cells.values() if math.isfinite(c.gain)]
    near = [
        Reach(r.gain, r.gain, r.gain, math.nan) for row in rows for r in nearest_references(row)
    ]
    ends = ratio_ends([*cells, *near])
    span = ends[1] - ends[0]
    axes.set_xlim(ends[0] - 0.03 * span, ends[1] + 0.03 * span)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    for place, row in enumerate(rows):
        _draw_row(axes, chart, row, place, ends)
    axes.axvline(0.0, color=INK, lw=1.2)
    figure: Any = axes.figure
    axes.set_yticks(range(len(rows)), [_row_name(row, chart, figure) for row in rows])
    beside = axes.twinx()  # who is best stands beside the axis, where it covers no mark
    beside.set_ylim(axes.get_ylim())
    best = [best_text(row, chart, lambda name: fitted(name, figure, 0.75)) for row in rows]
    beside.set_yticks(range(len(rows)), best, fontsize=8.5)
    for each in (axes, beside):
        each.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        beside.spines[side].set_visible(False)
    ratio_axis(axes)


def _reach(cell: ChartCell, row: ChartRow) -> Reach:
    return Reach(cell.low, cell.gain, cell.high, row.margin)


def _row_name(row: ChartRow, chart: RatioChart, figure: Figure) -> str:
    base = row.cells.get(row.reference)
    value = "" if base is None else f"  {short_centre(base.cell)} {row.series.unit}"
    arrow = "↑" if row.series.better == "higher" else "↓"
    against = "" if row.reference == chart.baseline else f"\nagainst {row.reference}"
    title = fitted(row.series.title, figure)
    return f"{title}{value} {arrow}{against}"


def _draw_row(
    axes: Axes, chart: RatioChart, row: ChartRow, place: int, ends: tuple[float, float]
) -> None:
    """The margin, the interval before the mark of each configuration, and references."""
    draw_ground(axes, place, row.margin)
    names = [name for name in chart.configurations if name != chart.baseline]
    step = 0.8 / max(1, len(names))
    for number, name in enumerate(names):
        cell = row.cells.get(name)
        if cell is None or math.isnan(cell.gain) or name == row.reference:
            continue
        y = place - 0.4 + step * (number + 0.5)
        look = Look(MARKS[number % len(MARKS)], COLOURS[number % len(COLOURS)], cell.best)
        draw_interval(axes, _reach(cell, row), y, look, ends, 5.6)
        if not ends[0] <= cell.gain <= ends[1]:
            right = cell.gain > 0
            text = bound_sign(cell, row) + gain_text(cell.gain)
            axes.annotate(
                text, (ends[right], y), xytext=(-8 if right else 8, 0),
                ha="right" if right else "left", va="center", textcoords="offset points",
                fontsize=7.5, color=look.colour, zorder=5,
            )  # fmt: skip
        if cell.cell.bound and ends[0] <= cell.gain <= ends[1]:
            further = 1 if (cell.cell.bound == ">") == (row.series.better == "higher") else -1
            axes.annotate(
                "→" if further > 0 else "←", (cell.gain, y), xytext=(12 * further, 0), ha="center",
                va="center", textcoords="offset points", color=look.colour, fontweight="bold",
            )  # fmt: skip
    _draw_references(axes, row, place, ends)


def _draw_references(axes: Axes, row: ChartRow, place: int, ends: tuple[float, float]) -> None:
    """Results from elsewhere at the lower edge of a row, with their names at the nearest side."""
    drawn = [r for r in nearest_references(row) if ends[0] <= r.gain <= ends[1]]
    for reference in drawn:
        axes.plot(reference.gain, place + 0.42, "d", ms=6, mec=FAINT, mfc=PAPER, mew=1.1, zorder=2)
    last = -math.inf
    for reference in drawn:
        # A name takes about so much of the axis; the next one must not begin before its end.
        width = 0.0062 * (ends[1] - ends[0]) * (len(reference.device) + 3)
        if reference.gain < last:
            continue
        last = reference.gain + width
        late = last > ends[1]
        axes.annotate(
            shortened(reference.device, 26), (reference.gain, place + 0.42),
            xytext=(-6 if late else 6, 0), ha="right" if late else "left", va="center",
            textcoords="offset points", fontsize=7.5, color=FAINT,
        )  # fmt: skip


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


def _key(axes: Axes, chart: RatioChart, rows: Sequence[ChartRow]) -> None:
    """Marks and names above the rows, in the order in which they stand in each row."""
    names = [name for name in chart.configurations if name != chart.baseline]
    figure: Any = axes.figure
    handles = [
        Line2D(
            [],
            [],
            color=COLOURS[n % len(COLOURS)],
            marker=MARKS[n % len(MARKS)],
            lw=2.4,
            label=fitted(name, figure),
        )
        for n, name in enumerate(names)
    ]
    if any(not cell.best for row in rows for cell in row.cells.values()):
        hollow = "hollow: another is significantly better, or the best is unknown"
        handles.append(Line2D([], [], color=INK, marker="o", mfc=PAPER, lw=0, label=hollow))
    if any(row.references for row in rows):
        handles.append(
            Line2D([], [], color=FAINT, marker="d", mfc=PALE, lw=0, ms=7, label="from elsewhere")
        )
    key_above(axes, handles)
