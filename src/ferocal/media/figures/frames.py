"""Figures of frame times: their tail, and the course of a middle run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter, NullLocator

from ferocal.media.figures.style import (
    COLOURS,
    INK,
    Size,
    is_narrow,
    key_above,
    line_style,
    plain_axes,
    title_of,
    trace_title,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.traces import TraceCurves
    from ferocal.traces.curves import FrameCurve

_FRAME_MARKS = (4, 8.3, 16.7, 33.3, 66.7, 133, 266, 533, 1066)  # ms, each twice the last


def draw(drawn: TraceCurves, size: Size = None) -> Figure:
    """Frame times of one metric on one bench."""
    return frames_figure(drawn.curves, trace_title(drawn), drawn.metric.metric.unit, size)


def frames_figure(curves: Sequence[FrameCurve], title: str, unit: str, size: Size = None) -> Figure:
    """The tail of frame times of all runs, and the course of a middle run, by configuration.

    Frame times are drawn in ms, whatever the unit of the trace is.
    """
    figure = Figure(figsize=size or (12.8, 8.0), layout="constrained")
    title_of(figure, title)
    tail, *courses = _frame_axes(figure, len(curves))
    for number, curve in enumerate(curves):
        tail.plot(curve.edges, curve.longer, lw=2, **line_style(number))
        if courses:
            _draw_course(courses[number], curve, number, number == len(curves) - 1)
    top = max(float(np.max(curve.longest)) for curve in curves)
    for axes, curve in zip(courses, curves, strict=False):
        axes.set_ylim(0, min(top * 1.05, 6 * max(float(np.median(c.median)) for c in curves)))
        _label_what_is_cut(axes, curve)
    _dress_tail(tail, curves)
    _key(tail, curves)
    return figure


def _frame_axes(figure: Figure, count: int) -> list[Axes]:
    if is_narrow(figure):
        return [figure.add_subplot()]
    grid = figure.add_gridspec(count, 2, width_ratios=(1.15, 1))
    first = figure.add_subplot(grid[:, 0])
    return [first, *(figure.add_subplot(grid[n, 1]) for n in range(count))]


def _key(axes: Axes, curves: Sequence[FrameCurve]) -> None:
    """Every configuration with its line and its rate, above the tail."""
    figure: Any = axes.figure
    handles = [
        Line2D(
            [],
            [],
            lw=2,
            label=f"{curve.configuration}, {np.median(curve.rates):.4g} fps",
            **line_style(number),
        )
        for number, curve in enumerate(curves)
    ]
    key_above(axes, handles, 0.9 if is_narrow(figure) else 0.5)


def _dress_tail(axes: Axes, curves: Sequence[FrameCurve]) -> None:
    low = min(float(curve.edges[0]) for curve in curves)
    high = max(float(curve.edges[-1]) for curve in curves)
    rarest = min(float(np.min(curve.longer)) for curve in curves)
    axes.set_ylim(0.7 * rarest, 1.2)
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xlim(low * 0.95, high * 1.25)
    marks = [mark for mark in _FRAME_MARKS if low * 0.95 <= mark <= high * 1.25]
    axes.set_xticks(marks)
    axes.set_xticklabels([f"{mark:g}\n{1000 / mark:.0f} fps" for mark in marks])
    axes.xaxis.set_minor_locator(NullLocator())
    axes.yaxis.set_major_locator(LogLocator(10))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda y, _: f"{100 * y:g} %"))
    axes.yaxis.set_minor_formatter(NullFormatter())
    for share, name in ((0.01, "1 % low"), (0.001, "0.1 % low")):
        axes.axhline(share, color=INK, lw=0.8, alpha=0.5)
        axes.annotate(name, (1.0, share), xycoords=("axes fraction", "data"), ha="right",
                      va="bottom", fontsize=9)  # fmt: skip
    axes.set_xlabel("frame time, ms, and the rate that it stands for")
    axes.set_ylabel("share of frames that last longer, all runs")
    plain_axes(axes)


def _draw_course(axes: Axes, curve: FrameCurve, number: int, last: bool) -> None:
    colour = COLOURS[number % len(COLOURS)]
    axes.vlines(curve.time, curve.median, curve.longest, color=colour, lw=0.8, alpha=0.55)
    axes.plot(curve.time, curve.median, color=colour, lw=1.4)
    note = "; line: median, strokes: longest frame, ms" if not number else ""
    axes.set_title(f"{curve.configuration}, a middle run{note}", loc="left", fontsize=9.5)
    axes.set_xlim(0, float(curve.time[-1]))
    if last:
        axes.set_xlabel("time in the run, s")
    plain_axes(axes)


def _label_what_is_cut(axes: Axes, curve: FrameCurve) -> None:
    """The longest frame in words, where it reaches beyond the axis."""
    place = int(np.argmax(curve.longest))
    longest, top = float(curve.longest[place]), axes.get_ylim()[1]
    if longest > top:
        late = place > len(curve.time) / 2
        axes.annotate(
            f"up to {longest:.0f} ms",
            (curve.time[place], top),
            xytext=(-6 if late else 6, -2),
            textcoords="offset points",
            ha="right" if late else "left",
            va="top",
            fontsize=8.5,
        )
