"""Curves of traces for figures: frame times by their tail, soaks over the runs."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Literal, NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.terms.frozen import dataclass
from ferocal.traces.capture import CaptureColumns, Channel, Direction
from ferocal.traces.events import LevelShift, bin_medians, bin_width
from ferocal.traces.frames import summarise_frames
from ferocal.traces.soak import SoakSummary, summarise_soak

_EDGES = 10.0 ** np.linspace(-1, 4.5, 1101)  # ms
_LINE_POINTS = 500


@dataclass(frozen=True)
class FrameCurve:
    """The frames of one configuration.

    ``edges`` (ms) and ``longer`` (share of frames that last longer), of equal shape, are of
    all its runs; ``time`` (s), ``median`` and ``longest`` (ms) are of the run with the
    middle rate, over its course. ``rates`` has the average rate of every run (fps).
    """

    configuration: str
    edges: FloatArray
    longer: FloatArray
    time: FloatArray
    median: FloatArray
    longest: FloatArray
    rates: FloatArray


class FrameCollector:
    """Takes the captures of one configuration one by one, and keeps no more than it needs."""

    def __init__(self, configuration: str) -> None:
        self._configuration = configuration
        self._counts = np.zeros(len(_EDGES) + 1, dtype=np.int64)
        self._lines: list[tuple[FloatArray, FloatArray, FloatArray]] = []
        self._rates: list[float] = []

    def add(self, columns: CaptureColumns) -> None:
        """Take a capture, of frame times in ms."""
        times = columns["value"]
        place = np.searchsorted(_EDGES, times)
        self._counts += np.bincount(place, minlength=len(self._counts))
        self._rates.append(summarise_frames([times]).rate)
        self._lines.append(_course(times))

    def curve(self) -> FrameCurve:
        """The curve of all captures so far."""
        longer = 1 - np.cumsum(self._counts[:-1]) / self._counts.sum()
        middle = int(np.argsort(self._rates)[len(self._rates) // 2])
        shown = (longer > 0) & (longer < 1)
        return FrameCurve(
            self._configuration,
            _EDGES[shown],
            longer[shown],
            *self._lines[middle],
            np.array(self._rates),
        )


def _course(times: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Time (s), median and longest frame (ms) of some hundred stretches of a capture."""
    end = np.cumsum(times) / 1000
    number = np.minimum((end / end[-1] * _LINE_POINTS).astype(np.int64), _LINE_POINTS - 1)
    stretches = find_segments([number])
    longest = np.maximum.reduceat(times, stretches.starts)
    return end[stretches.starts], stretches.median(times), longest


@dataclass(frozen=True)
class SoakEvent:
    """A fall or a rise that soaks of one configuration have in common.

    ``at`` is when it comes (s), ``before`` and ``after`` are the levels and ``lasts`` is the time
    until the next event or the end (s), each the median of the runs that have it: ``seen`` of
    ``runs``. The ``main`` one is that which costs most in most runs; ``main_in`` counts those in
    which this one does. ``regained`` is the share of the main loss that is back by then, NaN for
    all but changes back after it.
    """

    kind: Literal["fall", "rise"]
    at: float
    before: float
    after: float
    lasts: float
    seen: int
    runs: int
    main: bool = False
    main_in: int = 0
    regained: float = math.nan


@dataclass(frozen=True)
class SoakCurve:
    """The soaks of one configuration, on one axis of time (s), shape (t,) each.

    ``median``, ``low`` and ``high`` are over the runs; ``runs`` counts all, ``events`` are in order
    of time. ``bins`` are the widths (s) of the stretches of which medians are taken in each run.
    ``courses`` has the times (s from the start) and values of every run. ``channels`` are what else
    was read beside the values, with the times and the middle course of each.
    """

    configuration: str
    time: FloatArray
    median: FloatArray
    low: FloatArray
    high: FloatArray
    events: tuple[SoakEvent, ...]
    runs: int
    bins: tuple[float, ...]
    courses: tuple[tuple[FloatArray, FloatArray], ...] = ()
    channels: tuple[tuple[Channel, FloatArray, FloatArray], ...] = ()

    def session_levels(self, lengths: FloatArray) -> FloatArray:
        """The mean of every run up to some lengths (s), shape (r, t)."""
        return np.array([_running_mean(*course, lengths) for course in self.courses])


def _running_mean(time: FloatArray, value: FloatArray, lengths: FloatArray) -> FloatArray:
    counts = np.searchsorted(time, lengths, side="right")
    means: FloatArray = np.cumsum(value)[counts - 1] / counts
    return means


class SoakCollector:
    """Takes the soaks of one configuration one by one, with other channels if they have any."""

    def __init__(
        self, configuration: str, better: Direction, channels: Sequence[Channel] = ()
    ) -> None:
        self._configuration = configuration
        self._better = better
        self._channels = channels
        self._captures: list[CaptureColumns] = []

    def add(self, columns: CaptureColumns) -> None:
        """Take a soak, of times (s) and values."""
        self._captures.append({**columns, "time": columns["time"] - columns["time"][0]})

    def curve(self) -> SoakCurve:
        """The curve of all soaks so far."""
        curve = soak_curve(self._configuration, self._courses("value"), self._better)
        beside = []
        for channel in self._channels:
            if courses := self._courses(channel.role):
                time, table = _on_one_axis(courses)
                beside.append((channel, time, np.nanmedian(table, axis=0)))
        return replace(curve, channels=tuple(beside))

    def _courses(self, role: str) -> list[tuple[FloatArray, FloatArray]]:
        return [(c["time"], c[role]) for c in self._captures if role in c]


def _on_one_axis(
    runs: Sequence[tuple[FloatArray, FloatArray]],
) -> tuple[FloatArray, FloatArray]:
    """Times (s), shape (t,), and the medians of every run at these, shape (r, t)."""
    width = max(bin_width(time) for time, _ in runs)
    length = max(int(time[-1] / width) + 1 for time, _ in runs)
    table = np.full((len(runs), length), np.nan)
    for row, (time, value) in zip(table, runs, strict=True):
        starts, medians = bin_medians(time, value, width)
        row[np.rint(starts / width).astype(np.int64)] = medians
    present = ~np.isnan(table).all(axis=0)
    return (np.arange(length)[present] + 0.5) * width, table[:, present]


def soak_curve(
    configuration: str,
    runs: Sequence[tuple[FloatArray, FloatArray]],
    better: Direction,
) -> SoakCurve:
    """The curve of several soaks, each of times from its start (s) and values."""
    axis, table = _on_one_axis(runs)
    found = [summarise_soak(time, value, better) for time, value in runs]
    return SoakCurve(
        configuration,
        axis,
        np.nanmedian(table, axis=0),
        np.nanmin(table, axis=0),
        np.nanmax(table, axis=0),
        _common_events(found, [float(time[-1]) for time, _ in runs]),
        len(runs),
        tuple(s.bin for s in found),
        tuple(runs),
    )


class _Seen(NamedTuple):
    """A change of level in one run, and how long its level lasts."""

    run: int
    shift: LevelShift
    lasts: float
    main: bool


def _common_events(found: Sequence[SoakSummary], ends: Sequence[float]) -> tuple[SoakEvent, ...]:
    """The events of several soaks: those of one kind that come at about the same time are one."""
    groups: list[list[_Seen]] = []
    near = max(_NEAR, _NEAR_SHARE * max(ends))
    for seen in sorted(_all_seen(found, ends), key=lambda seen: seen.shift.at):
        alike = (
            group
            for group in reversed(groups)
            if _kind(group[0].shift) == _kind(seen.shift)
            and seen.shift.at - group[-1].shift.at <= near
            and all(member.run != seen.run for member in group)
        )
        group = next(alike, None)
        if group is None:
            groups.append([seen])
        else:
            group.append(seen)
    events = [_event(group, len(found)) for group in groups]
    main = max(range(len(events)), key=lambda n: events[n].main_in, default=None)
    if main is not None and events[main].main_in:
        events[main] = replace(events[main], main=True)
        lost = events[main].before - events[main].after
        events = [
            replace(e, regained=(e.after - events[main].after) / lost)
            if e.at > events[main].at and e.kind != events[main].kind
            else e
            for e in events
        ]
    return tuple(sorted(events, key=lambda event: event.at))


# Events of several runs are one within so many seconds or such a share of the whole.
_NEAR, _NEAR_SHARE = 60.0, 0.05


def _all_seen(found: Sequence[SoakSummary], ends: Sequence[float]) -> Iterator[_Seen]:
    for run, (summary, end) in enumerate(zip(found, ends, strict=True)):
        until = [*(shift.at for shift in summary.events[1:]), end]
        for n, (shift, later) in enumerate(zip(summary.events, until, strict=False)):
            yield _Seen(run, shift, later - shift.at, n == summary.main)


def _kind(shift: LevelShift) -> Literal["fall", "rise"]:
    return "fall" if shift.after < shift.before else "rise"


def _event(group: Sequence[_Seen], runs: int) -> SoakEvent:
    figures = np.median(
        [(seen.shift.at, seen.shift.before, seen.shift.after, seen.lasts) for seen in group], axis=0
    )
    at, before, after, lasts = map(float, figures)
    kind, main_in = _kind(group[0].shift), sum(seen.main for seen in group)
    return SoakEvent(kind, at, before, after, lasts, len(group), runs, main_in=main_in)
