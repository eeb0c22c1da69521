"""The figure of a series of releases: a panel for each metric, conditions beneath."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure

from ferocal.documents.numbers import change_text
from ferocal.documents.series import shown_series
from ferocal.media.figures.style import (
    COLOURS,
    FAINT,
    INK,
    MARKS,
    PAPER,
    Size,
    label_ends,
    note_below,
    plain_axes,
    title_of,
)
from ferocal.terms.conditions import CONDITIONS, TEMPERATURE, label_of
from ferocal.terms.wording import shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.analysis.data.series import Series
    from ferocal.answers.series import SeriesAnswer

# More panels than this cannot be read on one page.
MOST_PANELS, _MOST_CONDITIONS = 5, 2
_ARROWS = {"higher": "higher is better", "lower": "lower is better", "none": ""}
# So many names of releases fit below an inch of a panel.
_NAMES = 1.1
# How much of the axis a sign beside a bar takes.
_SIGN_WIDTH = 0.0085
# Signs of a note that fit an inch, and the longest note.
_NOTE_SIGNS, _LONGEST_NOTE = 12.0, 60
# Longer names of releases are turned, and shortened.
_LONG_NAME, _LONGEST_NAME = 11, 24


def draw(answer: SeriesAnswer, size: Size = None) -> Figure:
    """Values with intervals over the releases, steps and notes marked, conditions beneath.

    Conditions are the temperature and what the study file probes, two at most. Of more than five
    metrics those are drawn that changed, then those that decide.
    """
    shown = _chosen(answer)
    conditions = _conditions(answer)
    rows = len(shown) + len(conditions)
    own = (12.8, max(4.2, min(8.0, 1.2 + 2.3 * rows)))
    figure = Figure(figsize=size or own, layout="constrained")
    title_of(figure, answer.question)
    heights = [3.0] * len(shown) + [1.2] * len(conditions)
    grid: Any = figure.subplots(
        rows, 1, sharex=True, squeeze=False, gridspec_kw={"height_ratios": heights}
    )
    panels: list[Axes] = list(grid[:, 0])
    for panel, series in zip(panels, shown, strict=False):
        _draw(panel, answer, series)
    for panel, (name, by_bench) in zip(panels[len(shown) :], conditions.items(), strict=True):
        _draw_condition(panel, answer, name, by_bench)
    _mark_notes(panels[0], answer)
    _dress_bottom(panels[-1], answer)
    if left := not_drawn(answer):
        names = ", ".join(series.title for series in left)
        note_below(panels[-1], f"not drawn: {names}")
    return figure


def positions(answer: SeriesAnswer) -> np.ndarray:
    """Where each release is on the axis: its date, or its place; shape (n,)."""
    if answer.order == "time":
        return np.array([r.date.toordinal() for r in answer.releases if r.date is not None], float)
    return np.arange(len(answer.releases), dtype=float)


def _chosen(answer: SeriesAnswer) -> list[Series]:
    """The metrics that are drawn: those that changed, from every bench in turn, then others."""
    shown = shown_series(answer)
    by_bench: dict[str, dict[Series, None]] = {}
    for step in answer.steps:
        if step.series in shown:
            by_bench.setdefault(step.bench, {})[step.series] = None
    in_turn = itertools.chain(*itertools.zip_longest(*by_bench.values()))
    changed = [series for series in in_turn if series is not None]
    chosen = list(dict.fromkeys([*changed, *shown]))[:MOST_PANELS]
    return [series for series in shown if series in chosen]


def not_drawn(answer: SeriesAnswer) -> list[Series]:
    """The metrics for which there is no room in the figure."""
    chosen = _chosen(answer)
    return [series for series in shown_series(answer) if series not in chosen]


def _draw(axes: Axes, answer: SeriesAnswer, series: Series) -> None:
    at = positions(answer)
    benches = list(dict.fromkeys(v.bench for v in answer.values))
    ends: list[tuple[str, float, float, str]] = []
    for number, bench in enumerate(benches):
        values = [v for v in answer.values if v.series == series and v.bench == bench]
        if not values:
            continue
        colour, x = COLOURS[number % len(COLOURS)], at[[v.release for v in values]]
        low, high = (np.array([getattr(v, end) for v in values]) for end in ("low", "high"))
        y = np.array([v.value for v in values])
        known = np.isfinite(low)
        # The interval before the point.
        axes.vlines(x[known], low[known], high[known], color=colour, lw=3, alpha=0.35)
        axes.plot(x, y, color=colour, lw=0.8, alpha=0.5)
        axes.plot(x, y, MARKS[number % len(MARKS)], color=colour, ms=5.5, mec=PAPER, mew=0.8)
        ends.append((bench, float(x[-1]), float(y[-1]), colour))
    lanes = _mark_steps(axes, answer, series, benches)
    axes.set_title(
        f"{series.title}, {series.unit}, {_ARROWS[series.better]}".rstrip(", "),
        loc="left", fontsize=10,
    )  # fmt: skip
    axes.margins(y=0.12)
    bottom, top = axes.get_ylim()
    axes.set_ylim(bottom, top + 0.16 * lanes * (top - bottom))  # room for the bars
    if len(ends) > 1:
        label_ends(axes, ends)
    plain_axes(axes)


def _mark_steps(axes: Axes, answer: SeriesAnswer, series: Series, benches: Sequence[str]) -> int:
    """A bar from the release before a step to the one after, with its size; returns the rows.

    Bars of one bench share a row as far as none covers the size beside another.
    """
    at, places = positions(answer), axes.get_xaxis_transform()
    wide = (at[-1] - at[0]) * _SIGN_WIDTH
    taken: list[tuple[str, float]] = []  # by row, whose it is and up to where
    steps = [s for bench in benches for s in answer.steps if (s.series, s.bench) == (series, bench)]
    for step in steps:
        begin, end = at[step.last], at[step.first]
        text = f"{step.kind} {change_text(step)}"
        free = (n for n, (owner, last) in enumerate(taken) if owner == step.bench and last < begin)
        lane = next(free, len(taken))
        taken[lane:] = [(step.bench, end + wide * len(text)), *taken[lane + 1 :]]
        row, colour = 0.95 - 0.13 * lane, COLOURS[benches.index(step.bench) % len(COLOURS)]
        axes.plot([begin, end], [row, row], color=colour, lw=5, alpha=0.75, transform=places,
                  solid_capstyle="butt")  # fmt: skip
        axes.axvspan(begin, end, ymax=row, color=colour, alpha=0.07, lw=0)
        axes.annotate(
            text, (end, row), xycoords=places, xytext=(5, 0),
            textcoords="offset points", va="center", color=colour, fontweight="bold", fontsize=9,
        )  # fmt: skip
    return max(len(benches), len(taken))


def _mark_notes(axes: Axes, answer: SeriesAnswer) -> None:
    """What the study file notes of releases, above the panels, in lanes where they would touch."""
    at = positions(answer)
    left, right = _limits(at)
    figure: Any = axes.figure
    sign = (right - left) / (_NOTE_SIGNS * figure.get_figwidth())
    lanes: list[float] = []
    for place, release in enumerate(answer.releases):
        if not release.note:
            continue
        text = shortened(f"▾ {release.name}: {release.note}", _LONGEST_NOTE)
        # Towards the middle, so that it does not run over the edge.
        late = at[place] + sign * len(text) > right
        begin = at[place] - sign * len(text) if late else at[place]
        lane = next((n for n, end in enumerate(lanes) if end < begin), len(lanes))
        lanes[lane:] = [begin + sign * (len(text) + 2), *lanes[lane + 1 :]]
        axes.annotate(
            text, (at[place], 1.0), xycoords=("data", "axes fraction"), fontsize=8.5, color=INK,
            xytext=(3 if late else -3, 16 + 12 * lane), textcoords="offset points", va="bottom",
            ha="right" if late else "left",
        )  # fmt: skip


def _conditions(answer: SeriesAnswer) -> dict[str, dict[str, np.ndarray]]:
    """The conditions that are drawn, by name and bench, where any was read."""
    names = list(dict.fromkeys(n for known in answer.conditions.values() for n in known))
    wanted = [n for n in names if n == TEMPERATURE or n not in CONDITIONS]
    found = {
        name: {
            bench: known[name]
            for bench, known in answer.conditions.items()
            if name in known and np.isfinite(known[name]).any()
        }
        for name in wanted
    }
    return dict(list({n: by for n, by in found.items() if by}.items())[:_MOST_CONDITIONS])


def _draw_condition(
    axes: Axes, answer: SeriesAnswer, name: str, by_bench: dict[str, np.ndarray]
) -> None:
    at = positions(answer)
    benches = list(dict.fromkeys(v.bench for v in answer.values))
    for bench, values in by_bench.items():
        number = benches.index(bench) if bench in benches else 0
        known = np.isfinite(values)
        axes.plot(at[known], values[known], color=COLOURS[number % len(COLOURS)], lw=1.2,
                  marker=MARKS[number % len(MARKS)], ms=3)  # fmt: skip
    axes.set_title(label_of(name), loc="left", fontsize=9)
    axes.margins(y=0.25)
    plain_axes(axes)


def _dress_bottom(axes: Axes, answer: SeriesAnswer) -> None:
    """Names of releases below the last panel, of many only some; gaps are named."""
    at, missing = positions(answer), set(answer.unmeasured())
    figure: Any = axes.figure
    every = math.ceil(len(at) / max(2, int(_NAMES * figure.get_figwidth())))
    names = [
        "\n".join(
            [
                shortened(r.name, _LONGEST_NAME),
                *([] if r.date is None else [str(r.date)]),
                *(["not measured"] if r.name in missing else []),
            ]
        )
        for r in answer.releases
    ]
    turned = max(len(r.name) for r in answer.releases) > _LONG_NAME
    look: Any = {"rotation": 35, "ha": "right", "rotation_mode": "anchor"} if turned else {}
    axes.set_xticks(at[::every], names[::every], fontsize=8, **look)
    for place in np.flatnonzero([r.name in missing for r in answer.releases]):
        axes.axvline(at[place], color=FAINT, lw=0.8, ls=(0, (2, 3)))
    axes.set_xlim(*_limits(at))


def _limits(at: Sequence[float] | np.ndarray) -> tuple[float, float]:
    room = 0.04 * (at[-1] - at[0]) or 0.5
    return float(at[0] - room), float(at[-1] + 2 * room)
