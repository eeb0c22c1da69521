"""Figures of soaks over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from ferocal.documents.soaks import curve_words
from ferocal.media.figures.style import (
    COLOURS,
    PAPER,
    Size,
    fitted,
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
    from ferocal.traces.capture import Channel
    from ferocal.traces.curves import SoakCurve


def draw(drawn: TraceCurves, size: Size = None) -> Figure:
    """Soaks of one metric on one bench."""
    return soak_figure(drawn.curves, trace_title(drawn), drawn.metric.metric.unit, size)


def soak_figure(curves: Sequence[SoakCurve], title: str, unit: str, size: Size = None) -> Figure:
    """Soaks of all configurations on one axis of time, with their range over the runs.

    What else was read stands beneath, each in separate axes.
    """
    figure = Figure(figsize=size or (12.8, 8.0), layout="constrained")
    channels = list(dict.fromkeys(c for curve in curves for c, _, _ in curve.channels))
    ratios = (3, *(1 for _ in channels))
    axes, *beneath = np.atleast_1d(
        figure.subplots(len(ratios), 1, sharex=True, gridspec_kw={"height_ratios": ratios})
    )
    title_of(figure, title)
    for number, curve in enumerate(curves):
        minutes = curve.time / 60
        colour = COLOURS[number % len(COLOURS)]
        axes.fill_between(minutes, curve.low, curve.high, color=colour, alpha=0.16, lw=0)
        axes.plot(minutes, curve.median, lw=2, **line_style(number))
        _mark_events(axes, curve, number)
    low = min(float(np.min(curve.low)) for curve in curves)
    high = max(float(np.max(curve.high)) for curve in curves)
    # Not from zero where that would press all curves together, which the labels show.
    bottom = 0.0 if low < 0.5 * high else low - 0.15 * (high - low)
    axes.set_ylim(bottom, high + 0.08 * (high - bottom))
    _key(axes, curves)
    axes.set_ylabel(unit)
    plain_axes(axes)
    lowest = beneath[-1] if beneath else axes
    narrow = is_narrow(figure)
    told = "" if narrow else " (line: median of the runs; shaded: their range)"
    lowest.set_xlabel(f"time in the run, min{told}")
    for place, channel in zip(beneath, channels, strict=True):
        _draw_channel(place, channel, curves)
    return figure


def _draw_channel(axes: Axes, channel: Channel, curves: Sequence[SoakCurve]) -> None:
    """The course of another channel, in the colours of the curves above."""
    for number, curve in enumerate(curves):
        for known, time, value in curve.channels:
            if known == channel:
                axes.plot(time / 60, value, lw=1.4, **line_style(number))
    axes.set_ylabel(channel.label, fontsize=9)
    plain_axes(axes)


def _mark_events(axes: Axes, curve: SoakCurve, number: int) -> None:
    """A triangle at every event, the main one larger."""
    colour = COLOURS[number % len(COLOURS)]
    for event in curve.events:
        level = float(np.interp(event.at, curve.time, curve.median))
        axes.plot(
            event.at / 60, level, "v" if event.kind == "fall" else "^", color=colour,
            ms=11 if event.main else 7, mec=PAPER, mew=1.2, zorder=5,
        )  # fmt: skip


def _key(axes: Axes, curves: Sequence[SoakCurve]) -> None:
    """Every configuration with its line and its events in words, above the curves."""
    figure: Any = axes.figure
    narrow = is_narrow(figure)
    handles = [
        Line2D(
            [],
            [],
            lw=2,
            **line_style(number),
            label=fitted(curve.configuration, figure) if narrow else curve_words(curve),
        )
        for number, curve in enumerate(curves)
    ]
    key_above(axes, handles)
