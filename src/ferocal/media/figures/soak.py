"""Figures of soaks over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure

from ferocal.documents.soaks import event_words
from ferocal.media.figures.style import (
    COLOURS,
    PAPER,
    TEXT_BOX,
    line_style,
    plain_axes,
    trace_title,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.traces import TraceCurves
    from ferocal.traces.capture import Channel
    from ferocal.traces.curves import SoakCurve


def draw(drawn: TraceCurves) -> Figure:
    """Soaks of one metric on one bench."""
    return soak_figure(drawn.curves, trace_title(drawn), drawn.metric.metric.unit)


def soak_figure(curves: Sequence[SoakCurve], title: str, unit: str) -> Figure:
    """Soaks of all configurations on one axis of time, with their range over the runs.

    What else was read stands beneath, each in separate axes.
    """
    figure = Figure(figsize=(12.8, 8.0), layout="constrained")
    channels = list(dict.fromkeys(c for curve in curves for c, _, _ in curve.channels))
    ratios = (3, *(1 for _ in channels))
    axes, *beneath = np.atleast_1d(
        figure.subplots(len(ratios), 1, sharex=True, gridspec_kw={"height_ratios": ratios})
    )
    axes.set_title(title, loc="left", fontweight="bold", fontsize=12)
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
    _label_ends(axes, curves, high - bottom)
    axes.set_ylabel(unit)
    plain_axes(axes)
    lowest = beneath[-1] if beneath else axes
    lowest.set_xlabel("time in the run, min (line: median of the runs; shaded: their range)")
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
    """A triangle at every event, the main one larger and with words, as what comes back of it."""
    colour = COLOURS[number % len(COLOURS)]
    for event in curve.events:
        falls = event.kind == "fall"
        told, late = event.main or event.regained > 0, event.at > 0.4 * curve.time[-1]
        level = float(np.interp(event.at, curve.time, curve.median))
        place = (event.at / 60, level)
        size = 11 if event.main else 7
        marker = "v" if falls else "^"
        axes.plot(*place, marker, ms=size, color=colour, mec=PAPER, mew=1.2, zorder=5)
        if told:
            axes.annotate(
                f"{event_words(event)}: {event.at / 60:.1f} min ({event.seen} of {event.runs})",
                place,
                # Each configuration at another height, rises below; inwards, away from the names.
                xytext=(-14 if late else 14, (10 if falls else -64) - 17 * number),
                textcoords="offset points",
                ha="right" if late else "left",
                color=colour,
                fontsize=9.5,
                bbox=TEXT_BOX,
            )


def _label_ends(axes: Axes, curves: Sequence[SoakCurve], span: float) -> None:
    """Names at the right end of the curves, moved apart where they would overlap."""
    order = sorted(range(len(curves)), key=lambda n: curves[n].median[-1])
    ends = np.array([curves[n].median[-1] for n in order])
    places = ends.copy()
    for n in range(1, len(places)):
        places[n] = max(places[n], places[n - 1] + 0.035 * span)
    places += float(np.mean(ends - places))
    for n, place in zip(order, places, strict=True):
        axes.annotate(
            curves[n].configuration,
            (curves[n].time[-1] / 60, place),
            xytext=(8, 0),
            textcoords="offset points",
            va="center",
            color=COLOURS[n % len(COLOURS)],
            fontweight="bold",
            annotation_clip=False,
        )
