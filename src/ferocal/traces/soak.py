"""Soak traces: a value over a long time, its levels, and what throttling costs."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.terms.bounds import BEYOND, beyond
from ferocal.terms.frozen import dataclass
from ferocal.traces.capture import CaptureColumns, Direction, RowError, TraceSpec
from ferocal.traces.events import (
    LevelShift,
    active_falls,
    bin_medians,
    bin_width,
    find_level_shifts,
    main_event,
)

# The beginning, against which losses are taken, lasts up to the first event, and at most so long.
BEGINNING = 180.0  # seconds
# Less of a loss that comes back is no recovery.
_LEAST_REGAINED = 0.05


@dataclass(frozen=True)
class SoakSummary:
    """The figures of one soak; levels are in the unit of the value.

    ``peak`` and ``minimum`` are the highest and lowest median of ``bin`` seconds, ``beginning`` the
    level of the first three minutes or of what is before the first event; ``sustained`` is the mean
    of the last quarter over that of the first. ``events`` are all changes of level, ``main`` the
    place of the one that costs most, None where nothing gets worse. Of that one ``onset`` is the
    time (s) and ``depth`` the share of the level that is lost; ``recovery`` is when it is back, as
    far as it ever is, and ``recovered`` how much of the loss is back then, a share. Where no change
    for the worse is made good, the soak is throttled: for a time ``throttled`` (s), at the mean
    level ``throttled_level``. ``area_lost`` is the share that is missing to the beginning's level
    over the whole time. NaN stands for what does not exist. ``bin`` is longer or shorter than 10 s
    for traces that are coarser or shorter than an hour's.
    """

    peak: float
    mean: float
    minimum: float
    beginning: float
    last_quarter: float
    sustained: float
    events: tuple[LevelShift, ...]
    main: int | None
    onset: float
    depth: float
    recovery: float
    recovered: float
    throttled: float
    throttled_level: float
    area_lost: float
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
    events = tuple(find_level_shifts(time, value))
    main = main_event(events, time, value, better)
    beginning = _beginning(events, time, value)
    onset, depth, (recovery, recovered) = math.nan, math.nan, (math.nan, math.nan)
    if main is not None:
        fall = events[main]
        onset, (recovery, recovered) = fall.at, _recovery(events[main:])
        # Of a level of zero or less there are no shares.
        depth = abs(1 - fall.after / fall.before) if fall.before > 0 else math.nan
    return SoakSummary(
        peak=float(medians.max()),
        mean=float(value.mean()),
        minimum=float(medians.min()),
        beginning=beginning,
        last_quarter=float(last),
        sustained=float(last / first) if first > 0 else math.nan,
        events=events,
        main=main,
        onset=onset,
        depth=depth,
        recovery=recovery,
        recovered=recovered,
        **_throttling(events, time, value, better),
        area_lost=_area_lost(beginning, value, better),
        bin=width,
    )


def _beginning(events: Sequence[LevelShift], time: FloatArray, value: FloatArray) -> float:
    end = min([BEGINNING, *(event.at for event in events[:1])])
    return float(np.median(value[time < max(end, time[1])]))


def _recovery(events: Sequence[LevelShift]) -> tuple[float, float]:
    """When the most of a loss is back, the first of the events, and its share; else NaN and 0."""
    fall, *later = events
    lost = fall.before - fall.after
    regained = [(event.after - fall.after) / lost for event in later]
    most = max(regained, default=0.0)
    if most < _LEAST_REGAINED:
        return math.nan, 0.0
    # What is back to a twentieth is back.
    place = next(n for n, share in enumerate(regained) if share >= min(most, 1.0) - 0.05)
    return later[place].at, regained[place]


def _throttling(
    events: Sequence[LevelShift], time: FloatArray, value: FloatArray, better: Direction
) -> dict[str, float]:
    """For how long (s) something that got worse was not made good, and the mean level then."""
    active = active_falls(events, time, better).any(axis=0)
    level = float(value[active].mean()) if active.any() else math.nan
    return {"throttled": float(np.gradient(time)[active].sum()), "throttled_level": level}


def _area_lost(beginning: float, value: FloatArray, better: Direction) -> float:
    """The share of the area that is missing to the level of the beginning; less than none gains."""
    if beginning <= 0:
        return math.nan
    lost = 1 - float(value.mean()) / beginning
    return -lost if better == "lower" else lost
