"""Frame times of a run, summarised; the run is the unit, never the frame."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import TIME
from ferocal.traces.capture import RowError, TraceSpec

# A frame that lasts longer is a pause of the program, or given in another unit.
LONGEST_FRAME = 60_000.0
_BLOCK = 25


@dataclass(frozen=True)
class FrameSummary:
    """The figures of one run's frames.

    ``rate`` is frames over total time; ``low_1`` and ``low_01`` are the rates at the 99th
    and the 99.9th percentile of frame time; ``slowest_1`` is the rate of the slowest
    hundredth of the frames together; all in frames per second. ``over_limit`` is the
    share of time (per cent) in frames longer than the limit, NaN without one;
    ``stutters`` counts frames longer than twice the local median, per minute; ``median`` is the
    duration (ms) that half of the frames reach.
    """

    frames: int
    rate: float
    low_1: float
    low_01: float
    slowest_1: float
    over_limit: float
    stutters: float
    median: float


def check_frames(times: FloatArray, *, unit: str, per_unit: float, first_row: int = 0) -> None:
    """Check frame times, given in milliseconds.

    ``unit``, ``per_unit`` (how many of it a millisecond has) and ``first_row`` (that of the first
    frame) are for the message.

    Raises
    ------
    ValueError
        When there are none, when most last no time at all, or when one cannot be: not finite,
        negative, or longer than `LONGEST_FRAME`; the message names the first.
    """
    if not len(times):
        raise ValueError("no frames")
    with np.errstate(invalid="ignore"):
        wrong = ~((times >= 0) & (times <= LONGEST_FRAME))
    if wrong.any():
        place = int(np.argmax(wrong))
        value = float(times[place]) * per_unit
        if not np.isfinite(value):
            problem = "is not a number" if np.isnan(value) else "is infinite"
        elif value < 0:
            problem = f"duration {value:g} {unit} is negative; a status line or a missing value?"
        else:
            problem = f"duration {value:g} {unit}; a pause, or another unit?"
        raise RowError(f"frame {place + 1} {problem}", place + first_row)
    if not times.sum() > 0:
        raise ValueError(f"all {len(times)} frames last 0 {unit}")
    nothing = int(np.sum(times == 0))
    if 2 * nothing > len(times):
        raise ValueError(
            f"{nothing} of {len(times)} frames last 0 {unit}: the resolution of the times is too "
            "coarse"
        )


def frame_times(values: FloatArray, spec: TraceSpec) -> FloatArray:
    """Checked frame times in ms, from the values of a capture in the unit of the trace.

    Raises
    ------
    ValueError
        When they cannot be frame times, or stamps that are not in order.
    """
    per_unit = TIME["ms"] / TIME[spec.unit]
    times = (from_stamps(values) if spec.stamps else values) / per_unit
    check_frames(times, unit=spec.unit, per_unit=per_unit, first_row=int(spec.stamps))
    return times


def from_stamps(stamps: FloatArray) -> FloatArray:
    """Frame times from the times at which frames were shown.

    Raises
    ------
    ValueError
        When a stamp is earlier than the one before it.
    """
    times = np.diff(stamps)
    if (times < 0).any():
        place = int(np.argmax(times < 0))
        raise RowError(f"time stamp {place + 2} is earlier than the one before it", place + 1)
    return times


def summarise_frames(captures: Sequence[FloatArray], *, limit: float | None = None) -> FrameSummary:
    """Summarise the frames of a run, in one or more captures of frame times in ms.

    ``limit`` is in ms. The average is never the mean of instantaneous rates, in which
    short frames count as much as long ones.
    """
    times = captures[0] if len(captures) == 1 else np.concatenate(captures)
    total = float(times.sum())
    low_1, low_01, slowest_1, median = _slow_ends(times)
    stutters = sum(count_stutters(capture) for capture in captures)
    over = float("nan") if limit is None else float(times[times > limit].sum()) / total * 100
    return FrameSummary(
        frames=len(times),
        rate=1000 * len(times) / total,
        low_1=1000 / low_1,
        low_01=1000 / low_01,
        slowest_1=1000 / slowest_1,
        over_limit=over,
        stutters=stutters / (total / 60_000),
        median=median,
    )


def _slow_ends(times: FloatArray) -> tuple[float, float, float, float]:
    """The 99th and 99.9th percentile, the mean of the slowest hundredth, and the median (ms)."""
    slow = max(1, len(times) // 100)
    places = [(len(times) - 1) * share for share in (0.99, 0.999, 0.5)]
    whole = [int(place) for place in places]
    after = [min(place + 1, len(times) - 1) for place in whole]
    # One partial sort serves all of them; a trace may have ten million frames.
    ordered = np.partition(times, [*whole, *after, len(times) - slow])
    percentiles = [
        float(ordered[n] + (place - n) * (ordered[m] - ordered[n]))
        for place, n, m in zip(places, whole, after, strict=True)
    ]
    slowest = float(ordered[len(times) - slow :].mean())
    return percentiles[0], percentiles[1], slowest, percentiles[2]


def count_stutters(times: FloatArray) -> int:
    """How many frames are longer than twice the local median.

    That is the median of three successive medians of 25 frames, the middle one its own; in
    a short capture it is the median of all.
    """
    blocks = len(times) // _BLOCK
    if blocks < 3:
        return int(np.sum(times > 2 * np.median(times)))
    whole = times[: blocks * _BLOCK].reshape(blocks, _BLOCK)
    # Part by part, since a median copies what it is taken of.
    parts = np.array_split(whole, 1 + blocks // 40_000)
    medians = np.concatenate([np.median(part, axis=1) for part in parts])
    padded = np.r_[medians[0], medians, medians[-1]]
    local = np.median(np.stack([padded[:-2], padded[1:-1], padded[2:]]), axis=0)
    tail = times[blocks * _BLOCK :]
    return int(np.sum(whole > 2 * local[:, None]) + np.sum(tail > 2 * local[-1]))
