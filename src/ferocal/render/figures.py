"""Figures, all in one style; they draw finished results and compute no statistics."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
from matplotlib.figure import Figure
from matplotlib.ticker import FixedFormatter, FixedLocator, MaxNLocator, NullLocator

from ferocal.analysis.inference.effects import Effect
from ferocal.render.answer import verdict_text
from ferocal.render.numbers import change_text, interval_name, signed
from ferocal.render.tables import group_by_series, series_label

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK = "#1c2833"
FAINT = "#8a949e"
# Blue and orange differ for every common kind of colour vision; shapes differ too.
VERDICT_MARKS = {
    "better": ("#1b6ca8", "o"),
    "worse": ("#c75c12", "s"),
    "equivalent": ("#4b5661", "D"),
    "inconclusive": (FAINT, "o"),
    "seen once": (FAINT, "x"),
    "not judged": (FAINT, "o"),
}
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "svg.fonttype": "none",
    "svg.hashsalt": "ferocal",  # the same figure gives the same bytes
}
_ROW = 0.30  # inches per line of the chart
_FAR = 100.0
_RATIOS = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000]


def effects_figure(effects: Sequence[Effect], confidence: float) -> Figure | None:
    """Interval and point of every effect on a common ratio axis, or None if there are none.

    Effects on the "difference" scale have no ratio and are left out.
    """
    drawn = [e for e in effects if e.scale == "ratio" and math.isfinite(e.shift.mean)]
    groups = group_by_series(drawn)
    if not groups:
        return None
    rows = sum(len(group) + 1 for group in groups)
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(10.5, 1.1 + _ROW * rows), layout="constrained")
        axes = figure.subplots()
        _draw_rows(axes, groups)
        _dress_ratio_axis(axes, [e for group in groups for e in group], confidence)
        axes.set_ylim(rows - 0.3, -0.8)
    return figure


def _draw_rows(axes: Axes, groups: Sequence[Sequence[Effect]]) -> None:
    row = 0
    ticks: list[tuple[int, str, bool]] = []
    for group in groups:
        series = group[0].series
        margin = math.log1p(series.margin)
        # The band reaches from the heading of a group over all of its effects.
        axes.fill_betweenx(
            [row - 0.4, row + len(group) + 0.4], -margin, margin, color="#dfe6ec", lw=0, zorder=0
        )
        ticks.append((row, f"{series.workload}: {series_label(series)}", True))
        for effect in group:
            row += 1
            ticks.append((row, effect.configuration, False))
            _draw_effect(axes, row, effect)
        row += 1
    axes.yaxis.set_major_locator(FixedLocator([place for place, _, _ in ticks]))
    axes.yaxis.set_major_formatter(FixedFormatter([text for _, text, _ in ticks]))
    for tick_label, (_, _, heading) in zip(axes.get_yticklabels(), ticks, strict=True):
        tick_label.set_fontweight("bold" if heading else "normal")
        tick_label.set_fontsize(9.5)


def _draw_effect(axes: Axes, row: int, effect: Effect) -> None:
    colour, marker = VERDICT_MARKS[effect.verdict]
    shift = effect.shift
    if not math.isnan(shift.low):
        # An end that is not known lies outside of the picture.
        ends = [max(shift.low, shift.mean - _FAR), min(shift.high, shift.mean + _FAR)]
        axes.plot(ends, [row, row], color=colour, lw=2.2, alpha=0.75, zorder=2)
    hollow = effect.verdict not in ("better", "worse", "equivalent")
    face = "white" if hollow else colour
    axes.plot(shift.mean, row, marker, ms=6.5, mec=colour, mfc=face, mew=1.6, zorder=3)
    text = f"{change_text(effect)}  {verdict_text(effect)}"
    axes.annotate(
        text,
        (1.01, row),
        xycoords=("axes fraction", "data"),
        va="center",
        fontsize=9,
        color=colour if not hollow else INK,
        annotation_clip=False,
    )


def _dress_ratio_axis(axes: Axes, effects: Sequence[Effect], confidence: float) -> None:
    ends = [0.0] + [
        end
        for e in effects
        for end in (e.shift.low, e.shift.mean, e.shift.high)
        if math.isfinite(end)
    ]
    ends += [sign * 1.3 * math.log1p(e.series.margin) for e in effects for sign in (-1, 1)]
    low, high = min(ends), max(ends)
    pad = 0.05 * (high - low)
    axes.set_xlim(low - pad, high + pad)
    places = _ratio_ticks(low - pad, high + pad)
    axes.xaxis.set_major_locator(FixedLocator([math.log(ratio) for ratio in places]))
    axes.xaxis.set_major_formatter(FixedFormatter([_ratio_label(ratio) for ratio in places]))
    axes.xaxis.set_minor_locator(NullLocator())
    axes.axvline(0, color=INK, lw=1, zorder=1)
    axes.grid(axis="x", color="#e8ecef", lw=0.7, zorder=0)
    axes.set_axisbelow(True)
    axes.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.set_xlabel(
        f"change against {effects[0].baseline} (ratio scale; line: {interval_name(confidence)}; "
        "shaded: within the margin)"
    )


def _ratio_ticks(low: float, high: float) -> list[float]:
    """Ratios to mark: round percentages in a narrow range, round factors in a wide one."""
    if high - low < math.log(2.5):
        shares = MaxNLocator(7, steps=[1, 2, 2.5, 5, 10]).tick_values(
            math.expm1(low), math.expm1(high)
        )
        return [1 + share for share in shares if low <= math.log1p(share) <= high]
    return [ratio for ratio in _RATIOS if low <= math.log(ratio) <= high]


def _ratio_label(ratio: float) -> str:
    share = 100 * (ratio - 1)
    if abs(share) < 1e-9:
        return "no change"
    text = f"{signed(share, 0 if abs(share - round(share)) < 1e-6 else 1)} %"
    return f"{text}\n×{ratio:g}" if ratio >= 2 or ratio <= 0.5 else text


def to_svg(figure: Figure) -> str:
    """The figure as an SVG element for a page, without XML declaration and date."""
    buffer = io.StringIO()
    with mpl.rc_context(STYLE):
        figure.savefig(buffer, format="svg", metadata={"Date": None, "Creator": "Ferocal"})
    text = buffer.getvalue()
    return text[text.index("<svg") :]
