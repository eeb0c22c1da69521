"""Curves of traces for figures: frame times by their tail, soaks over the runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.traces.capture import CaptureColumns, Direction
from ferocal.traces.frames import summarise_frames
from ferocal.traces.soak import bin_medians, bin_width, summarise_soak

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
class SoakCurve:
    """The soaks of one configuration, on one axis of time (s), shape (t,) each.

    ``median``, ``low`` and ``high`` are over the runs; ``onsets`` and ``recoveries`` (s) are
    those of the runs that have them; ``runs`` counts all. ``bins`` are the widths (s) of the
    stretches of which medians are taken in each run. ``second`` has the times and the course of
    another channel, such as the ambient temperature, None where there is none.
    """

    configuration: str
    time: FloatArray
    median: FloatArray
    low: FloatArray
    high: FloatArray
    onsets: tuple[float, ...]
    recoveries: tuple[float, ...]
    runs: int
    bins: tuple[float, ...]
    second: tuple[FloatArray, FloatArray] | None = None
    second_label: str = ""


class SoakCollector:
    """Takes the soaks of one configuration one by one, with another channel if they have one."""

    def __init__(self, configuration: str, better: Direction, second_label: str = "") -> None:
        self._configuration = configuration
        self._better = better
        self._second_label = second_label
        self._runs: list[tuple[FloatArray, FloatArray]] = []
        self._seconds: list[tuple[FloatArray, FloatArray]] = []

    def add(self, columns: CaptureColumns) -> None:
        """Take a soak, of times (s) and values."""
        self._runs.append((columns["time"], columns["value"]))
        if "second" in columns:
            self._seconds.append((columns["time"], columns["second"]))

    def curve(self) -> SoakCurve:
        """The curve of all soaks so far."""
        curve = soak_curve(self._configuration, self._runs, self._better)
        if not self._seconds:
            return curve
        time, table = _on_one_axis(self._seconds)
        middle = (time, np.nanmedian(table, axis=0))
        return replace(curve, second=middle, second_label=self._second_label)


def _on_one_axis(
    runs: Sequence[tuple[FloatArray, FloatArray]],
) -> tuple[FloatArray, FloatArray]:
    """Times (s), shape (t,), and the medians of every run at these, shape (r, t)."""
    width = max(bin_width(time - time[0]) for time, _ in runs)
    length = max(int((time[-1] - time[0]) / width) + 1 for time, _ in runs)
    table = np.full((len(runs), length), np.nan)
    for row, (time, value) in zip(table, runs, strict=True):
        starts, medians = bin_medians(time - time[0], value, width)
        row[np.rint(starts / width).astype(np.int64)] = medians
    present = ~np.isnan(table).all(axis=0)
    return (np.arange(length)[present] + 0.5) * width, table[:, present]


def soak_curve(
    configuration: str,
    runs: Sequence[tuple[FloatArray, FloatArray]],
    better: Direction,
) -> SoakCurve:
    """The curve of several soaks, each of times (s) and values."""
    axis, table = _on_one_axis(runs)
    found = [summarise_soak(time, value, better) for time, value in runs]
    return SoakCurve(
        configuration,
        axis,
        np.nanmedian(table, axis=0),
        np.nanmin(table, axis=0),
        np.nanmax(table, axis=0),
        tuple(s.onset for s in found if not np.isnan(s.onset)),
        tuple(s.recovery for s in found if not np.isnan(s.recovery)),
        len(runs),
        tuple(s.bin for s in found),
    )
