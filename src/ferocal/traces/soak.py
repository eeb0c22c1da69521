"""Soak traces: a value over a long time, and when it drops for good or for a while."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.terms.bounds import BEYOND, beyond
from ferocal.traces.capture import CaptureColumns, Direction, RowError, TraceSpec

# Chosen by simulation: no false alarm in 200 hours each of drift to -15 %, AR(1) noise and
# spikes, and every drop of 12 to 40 % found; `benchmarks/bench_traces.py` repeats it.
BIN = 10.0  # seconds; medians of so long a time are looked at
FEWEST_BINS = 6  # of a segment: a minute
THRESHOLD = 6.0  # of the split statistic, in standard deviations of a median
LEAST_STEP = 0.10  # of the level, between the minutes on both sides of a split
_RECOVERED = 0.95


@dataclass(frozen=True)
class LevelShift:
    """A sudden change of level: when (s), and the levels of the minutes before and after."""

    at: float
    before: float
    after: float


@dataclass(frozen=True)
class SoakSummary:
    """The figures of one soak; levels are in the unit of the value.

    ``peak`` and ``minimum`` are the highest and lowest median of ``bin`` seconds;
    ``sustained`` is the mean of the last quarter over that of the first. ``onset`` is when
    throttling sets in (s), ``depth`` the share of the level that is lost then, ``recovery``
    when the level is back; NaN where there is none. ``bin`` is longer or shorter than 10 s
    for traces that are coarser or shorter than an hour's.
    """

    peak: float
    mean: float
    minimum: float
    last_quarter: float
    sustained: float
    onset: float
    depth: float
    recovery: float
    bin: float


def soak_times(columns: CaptureColumns, spec: TraceSpec) -> FloatArray:
    """The times (s) of the values of a capture; evenly apart where it has none."""
    interval = 1.0 if spec.interval is None else spec.interval
    evenly = np.arange(len(columns["value"])) * interval
    return np.asarray(columns.get("time", evenly), dtype=np.float64)


def check_soak(time: FloatArray, value: FloatArray) -> None:
    """Check a trace.

    Raises
    ------
    ValueError
        When it has fewer than two values, when one is not finite, or time runs backwards.
    """
    if len(value) < 2:
        raise ValueError(f"only {len(value)} values")
    for name, column in (("time", time), ("value", value)):
        check_finite(name, column, role=name)
    if (np.diff(time) <= 0).any():
        place = int(np.argmax(np.diff(time) <= 0)) + 2
        raise RowError(f"time {place} is not later than the one before it", place - 1, "time")


def check_finite(name: str, column: FloatArray, *, role: str) -> None:
    """Check that a column has numbers only.

    Raises
    ------
    ValueError
        When one is not finite, or beyond all bounds; the message says which.
    """
    wrong = ~np.isfinite(column) | beyond(column)
    if wrong.any():
        place = int(np.argmax(wrong))
        what = BEYOND if np.isfinite(column[place]) else "is not a finite number"
        raise RowError(f"{name} {place + 1} {what}", place, role)


def summarise_soak(time: FloatArray, value: FloatArray, better: Direction) -> SoakSummary:
    """Summarise a trace of values at times (s), both of shape (n,), in order of time."""
    time = time - time[0]
    width = bin_width(time)
    _, medians = bin_medians(time, value, width)
    quarter = time[-1] / 4
    first, last = value[time <= quarter].mean(), value[time >= 3 * quarter].mean()
    shifts = find_level_shifts(time, value)
    worse = [s for s in shifts if (s.after < s.before) == (better == "higher")]
    onset = worse[0] if worse else None
    back = _recovery(shifts, onset, better) if onset is not None else math.nan
    return SoakSummary(
        peak=float(medians.max()),
        mean=float(value.mean()),
        minimum=float(medians.min()),
        last_quarter=float(last),
        # Of a level of zero or less there are no shares.
        sustained=float(last / first) if first > 0 else math.nan,
        onset=math.nan if onset is None else onset.at,
        depth=math.nan
        if onset is None or onset.before <= 0
        else abs(1 - onset.after / onset.before),
        recovery=back,
        bin=width,
    )


def _recovery(shifts: list[LevelShift], onset: LevelShift, better: Direction) -> float:
    """When the level from before the onset is back, to a twentieth; NaN if it never is."""
    for shift in shifts:
        level, wanted = shift.after, onset.before
        if better == "lower":
            level, wanted = wanted, level
        if shift.at > onset.at and level >= _RECOVERED * wanted:
            return shift.at
    return math.nan


def bin_width(time: FloatArray) -> float:
    """Seconds per median: 10, more for coarse traces, less for short ones."""
    interval = float(np.median(np.diff(time)))
    shortest = 3 * interval
    # A trace has to have room for several segments.
    longest = float(time[-1] - time[0]) / (4 * FEWEST_BINS)
    return max(shortest, min(BIN, longest))


def find_level_shifts(time: FloatArray, value: FloatArray) -> list[LevelShift]:
    """Sudden changes of level, in order of time.

    Parameters
    ----------
    time, value
        Shape (n,), seconds and positive values.

    Notes
    -----
    Binary segmentation (Scott and Knott 1974, Biometrics 30, 507-512; Vostrikova 1981) on
    medians of 10 s in segments of at least 60 s; the noise is the median absolute
    difference of successive medians. A split counts only with a local step of a tenth
    between up to 60 s on both sides, so that a slow drift is none. Its time is then
    refined at full resolution.
    """
    time = time - time[0]
    width = bin_width(time)
    starts, medians = bin_medians(time, value, width)
    noise = float(np.median(np.abs(np.diff(medians)))) / 0.954
    noise = max(noise, 1e-9 * float(np.abs(medians).max()))
    if not noise:
        return []  # zero throughout
    found: list[int] = []
    _split(medians, 0, len(medians), noise, found)
    shifts = []
    for place in sorted(found):
        before = medians[max(0, place - FEWEST_BINS) : place]
        after = medians[place : place + FEWEST_BINS]
        levels = float(np.median(before)), float(np.median(after))
        at = _refine(time, value, float(starts[place]), width)
        shifts.append(LevelShift(at, *levels))
    return shifts


def bin_medians(time: FloatArray, value: FloatArray, width: float) -> tuple[FloatArray, FloatArray]:
    """Start (s) and median of every bin that has values."""
    number = np.floor(time / width).astype(np.int64)
    bins = find_segments([number])
    starts: FloatArray = number[bins.starts].astype(np.float64) * width
    return starts, bins.median(value)


def _split(medians: FloatArray, begin: int, end: int, noise: float, found: list[int]) -> None:
    """Split a segment where the levels differ most, and continue in both parts."""
    size = end - begin
    if size < 2 * FEWEST_BINS:
        return
    left = np.arange(FEWEST_BINS, size - FEWEST_BINS + 1)
    sums = np.cumsum(medians[begin:end])
    gap = sums[left - 1] / left - (sums[-1] - sums[left - 1]) / (size - left)
    statistic = np.abs(gap) * np.sqrt(left * (size - left) / size) / noise
    best = int(np.argmax(statistic))
    if statistic[best] < THRESHOLD:
        return
    place = begin + int(left[best])
    before = np.median(medians[max(begin, place - FEWEST_BINS) : place])
    after = np.median(medians[place : min(end, place + FEWEST_BINS)])
    if after != before and abs(after - before) >= LEAST_STEP * abs(before):
        found.append(place)
    _split(medians, begin, place, noise, found)
    _split(medians, place, end, noise, found)


def _refine(time: FloatArray, value: FloatArray, at: float, width: float) -> float:
    """The time of a step at full resolution: the best split of the minutes around it."""
    around = FEWEST_BINS * width
    rows = np.flatnonzero((time >= at - around) & (time < at + around))
    near = np.flatnonzero(np.abs(time[rows] - at) <= 2 * width)
    near = near[(near > 0) & (near < len(rows))]
    if not len(near):
        return at
    nearby = value[rows]
    sums = np.cumsum(nearby)
    left = near.astype(float)
    gap = sums[near - 1] / left - (sums[-1] - sums[near - 1]) / (len(nearby) - left)
    statistic = np.abs(gap) * np.sqrt(left * (len(nearby) - left))
    return float(time[rows][near[int(np.argmax(statistic))]])
