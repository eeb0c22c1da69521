"""Figures of traces: frame times with their tail, soaks over time."""

from __future__ import annotations

import io
import logging
import re
import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter, NullLocator

from ferocal.errors import UsageError
from ferocal.render.figures import COLOURS, INK, STYLE, plain_axes
from ferocal.render.output import MARK, whole_file
from ferocal.terms.signs import visible
from ferocal.terms.wording import shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.traces.curves import FrameCurve, SoakCurve

_DASHES = ("-", (0, (5, 2)), (0, (2, 1.5)), (0, (6, 2, 1.5, 2)))
_FRAME_MARKS = (4, 8.3, 16.7, 33.3, 66.7, 133, 266, 533, 1066)  # ms, each twice the last


def _style(number: int) -> dict[str, Any]:
    return {
        "color": COLOURS[number % len(COLOURS)],
        "linestyle": _DASHES[number % len(_DASHES)],
    }


def frames_figure(curves: Sequence[FrameCurve], title: str, unit: str) -> Figure:
    """The tail of frame times of all runs, and the course of a middle run, by configuration.

    Frame times are drawn in ms, whatever the unit of the trace is.
    """
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(12.8, 8.0), layout="constrained")
        figure.suptitle(title, x=0.01, ha="left", fontweight="bold")
        tail, *courses = _frame_axes(figure, len(curves))
        for number, curve in enumerate(curves):
            tail.plot(curve.edges, curve.longer, lw=2, **_style(number))
            _label_tail(tail, curve, number)
            _draw_course(courses[number], curve, number, number == len(curves) - 1)
        top = max(float(np.max(curve.longest)) for curve in curves)
        for axes, curve in zip(courses, curves, strict=True):
            axes.set_ylim(0, min(top * 1.05, 6 * max(float(np.median(c.median)) for c in curves)))
            _label_what_is_cut(axes, curve)
        _dress_tail(tail, curves)
    return figure


def _frame_axes(figure: Figure, count: int) -> list[Axes]:
    grid = figure.add_gridspec(count, 2, width_ratios=(1.15, 1))
    first = figure.add_subplot(grid[:, 0])
    return [first, *(figure.add_subplot(grid[n, 1]) for n in range(count))]


def _label_tail(axes: Axes, curve: FrameCurve, number: int) -> None:
    """The name of the configuration at its curve, each at another height."""
    share = 10 ** (-0.4 - 0.42 * number)
    place = int(np.argmin(np.abs(np.log(curve.longer) - np.log(share))))
    axes.annotate(
        f"{curve.configuration}, {np.median(curve.rates):.4g} fps",
        (curve.edges[place], curve.longer[place]),
        xytext=(10, 6),
        textcoords="offset points",
        color=COLOURS[number % len(COLOURS)],
        fontweight="bold",
        bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1},
    )


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
    axes.set_title("share of frames that last longer, all runs", loc="left", fontsize=10)
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
            axes.plot(minutes, curve.median, lw=2, **_style(number))
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
            axes.plot(time / 60, value, lw=1.4, **_style(number))
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


# What a figure says of itself; no date, so that the same figure is the same file.
_METADATA: dict[str, Any] = {".png": {"Software": MARK}, ".svg": {"Creator": MARK, "Date": None}}


def figure_svg(figure: Figure) -> str:
    """A figure as an SVG element, for a page."""
    text = io.StringIO()
    with mpl.rc_context(STYLE), _quiet():
        _show_signs(figure)
        figure.savefig(text, format="svg", metadata=_METADATA[".svg"])
    svg = text.getvalue()
    return svg[svg.index("<svg") :]


def save_figure(figure: Figure, path: Path, *, force: bool = False) -> None:
    """Write a figure as PNG or SVG, by the name of the file.

    Raises
    ------
    UsageError
        When the name ends in something else, or something else is there.
    FerocalError
        When the file cannot be written.
    """
    if path.suffix not in _METADATA:
        raise UsageError(f"{path}: a chart is written as .png or .svg, not {path.suffix or 'so'}")
    with mpl.rc_context(STYLE), whole_file(path, force=force) as partial, _quiet() as warned:
        _show_signs(figure)
        figure.savefig(partial, dpi=100, metadata=_METADATA[path.suffix])
    if warned and path.suffix == ".png":
        signs = visible("".join(sorted(set(warned))))
        logging.getLogger(__name__).warning(
            "%s: the font of figures has no %s: boxes stand for it; a .svg has the text itself",
            visible(str(path)), shortened(signs, 20),
        )  # fmt: skip


def _show_signs(figure: Figure) -> None:
    """Have signs that nobody sees shown as on the screen; XML cannot even have them."""
    for text in figure.findobj(mpl.text.Text):
        text.set_text(visible(text.get_text()))


@contextmanager
def _quiet() -> Iterator[list[str]]:
    """Keep what the library warns of from the terminal; the signs that its font does not have."""
    missing: list[str] = []
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        yield missing
    for warning in caught:
        code = re.match(r"Glyph (\d+) ", str(warning.message))
        if code is not None:
            missing.append(chr(int(code[1])))
        elif "layout" not in str(warning.message):  # what does not fit is drawn as it is
            warnings.warn_explicit(
                warning.message, warning.category, warning.filename, warning.lineno
            )


# How the curves of each kind of trace are drawn, given a title and the unit of the values.
FIGURES: dict[str, Callable[[Sequence[Any], str, str], Figure]] = {
    "frames": frames_figure,
    "soak": soak_figure,
}
