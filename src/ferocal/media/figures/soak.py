"""Figures of soaks over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure

from ferocal.media.figures.style import COLOURS, STYLE, line_style, plain_axes, trace_title

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.traces import TraceCurves
    from ferocal.traces.curves import SoakCurve


def draw(drawn: TraceCurves) -> Figure:
    """Soaks of one metric on one bench."""
    return soak_figure(drawn.curves, trace_title(drawn), drawn.metric.metric.unit)


def soak_figure(curves: Sequence[SoakCurve], title: str, unit: str) -> Figure:
    """Soaks of all configurations on one axis of time, with their range over the runs."""
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(12.8, 8.0), layout="constrained")
        axes, beneath = _soak_axes(figure, curves)
        axes.set_title(title, loc="left", fontweight="bold", fontsize=12)
        for number, curve in enumerate(curves):
            minutes = curve.time / 60
            colour = COLOURS[number % len(COLOURS)]
            axes.fill_between(minutes, curve.low, curve.high, color=colour, alpha=0.16, lw=0)
            axes.plot(minutes, curve.median, lw=2, **line_style(number))
            _mark_changes(axes, curve, number)
        low = min(float(np.min(curve.low)) for curve in curves)
        high = max(float(np.max(curve.high)) for curve in curves)
        # Not from zero where that would press all curves together, which the labels show.
        bottom = 0.0 if low < 0.5 * high else low - 0.15 * (high - low)
        axes.set_ylim(bottom, high + 0.08 * (high - bottom))
        _label_ends(axes, curves, high - bottom)
        axes.set_ylabel(unit)
        plain_axes(axes)
        lowest = axes if beneath is None else beneath
        lowest.set_xlabel("time in the run, min (line: median of the runs; shaded: their range)")
        if beneath is not None:
            _draw_second(beneath, curves)
    return figure


def _soak_axes(figure: Figure, curves: Sequence[SoakCurve]) -> tuple[Axes, Axes | None]:
    """The axes of the values, and those of another channel beneath where there is one."""
    if all(curve.second is None for curve in curves):
        return figure.subplots(), None
    axes, beneath = figure.subplots(2, 1, sharex=True, gridspec_kw={"height_ratios": (3, 1)})
    return axes, beneath


def _draw_second(axes: Axes, curves: Sequence[SoakCurve]) -> None:
    """The course of the other channel, in the colours of the curves above."""
    for number, curve in enumerate(curves):
        if curve.second is not None:
            time, value = curve.second
            axes.plot(time / 60, value, lw=1.4, **line_style(number))
    labels = dict.fromkeys(curve.second_label for curve in curves if curve.second_label)
    axes.set_ylabel(", ".join(labels), fontsize=9)
    plain_axes(axes)


def _mark_changes(axes: Axes, curve: SoakCurve, number: int) -> None:
    """A triangle at the middle onset and one at the middle recovery, with their times."""
    colour = COLOURS[number % len(COLOURS)]
    changes = (("throttling sets in", "v", curve.onsets), ("recovers", "^", curve.recoveries))
    for name, marker, times in changes:
        if not times:
            continue
        at = float(np.median(times))
        level = float(np.interp(at, curve.time, curve.median))
        axes.plot(at / 60, level, marker, ms=11, color=colour, mec="white", mew=1.2, zorder=5)
        axes.annotate(
            f"{name} at {at / 60:.1f} min ({len(times)} of {curve.runs} runs)",
            (at / 60, level),
            # Each configuration at another height; onsets to the left, recoveries to the right.
            xytext=(-14 if marker == "v" else 14, 10 - 17 * number),
            textcoords="offset points",
            ha="right" if marker == "v" else "left",
            color=colour,
            fontsize=9.5,
            bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1},
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
