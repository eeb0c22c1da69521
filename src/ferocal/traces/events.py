"""The course of a soak as levels: where the value falls and rises, and which fall costs most."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from ferocal.analysis.data.segments import FloatArray, find_segments
from ferocal.terms.frozen import dataclass
from ferocal.traces.capture import Direction

# Chosen by simulation: no event in 200 hours each of drift to -15 %, AR(1) noise and spikes, and
# every step of a tenth or more found; `benchmarks/bench_traces.py` repeats it.
BIN = 10.0  # seconds; medians of so long a time are looked at
FEWEST_BINS = 6  # on each side of a step: a minute
LEAST_STEP = 0.07  # of the level before
_LEAST_ERRORS = 5.0  # of the step, in its standard errors
_EDGE_BINS = 3  # at the ends, and between a fall and a rise
_RECOVERED = 0.95  # of the level before a fall, that is back
# Steps that take longer than a bin have levels further apart: so many bins are left out at most,
# where the step is then larger by so much.
_GAPS = (0, 3, 6)
_CLEARLY_LARGER = 1.1


@dataclass(frozen=True)
class LevelShift:
    """A sudden change of level: when (s), and the levels of the minutes before and after."""

    at: float
    before: float
    after: float

    def worsens(self, better: Direction) -> bool:
        """Whether it is for the worse: a fall, unless lower values are better."""
        return (self.after > self.before) == (better == "lower")


def bin_width(time: FloatArray) -> float:
    """Seconds per median: 10, more for coarse traces, less for short ones."""
    interval = float(np.median(np.diff(time)))
    shortest = 3 * interval
    # A trace has to have room for several segments.
    longest = float(time[-1] - time[0]) / (4 * FEWEST_BINS)
    return max(shortest, min(BIN, longest))


def bin_medians(time: FloatArray, value: FloatArray, width: float) -> tuple[FloatArray, FloatArray]:
    """Start (s) and median of every bin that has values."""
    number = np.floor(time / width).astype(np.int64)
    bins = find_segments([number])
    starts: FloatArray = number[bins.starts].astype(np.float64) * width
    return starts, bins.median(value)


def find_level_shifts(time: FloatArray, value: FloatArray) -> list[LevelShift]:
    """Sudden changes of level, in order of time.

    Parameters
    ----------
    time, value
        Shape (n,), seconds and values.

    Notes
    -----
    Moving sums (Huskova and Slaby 2001, Kybernetika 37, 605-622; Eichinger and Kirch 2018,
    Bernoulli 24, 526-564), of medians of 10 s instead of values: the median of the minute after
    each place against that of the minute before. A step counts where it is the largest around,
    of 7 % of the level at least, and of five standard errors. These come from how successive
    minutes differ where nothing steps, so neither a slow drift nor noise that lasts is a step.
    Its time is then refined at full resolution.
    """
    time = time - time[0]
    width = bin_width(time)
    starts, medians = bin_medians(time, value, width)
    places = _settle(medians, _candidates(medians))
    found = []
    for place, (begin, end) in zip(places, _bounds(places, len(medians)), strict=True):
        before, after = _levels(medians, place, begin, end)
        # What is beyond both levels, such as a spike, says nothing of when it steps.
        clipped = np.clip(value, min(before, after), max(before, after))
        found.append(LevelShift(_refine(time, clipped, float(starts[place]), width), before, after))
    return found


def main_event(
    shifts: Sequence[LevelShift], time: FloatArray, value: FloatArray, better: Direction
) -> int | None:
    """Which change for the worse costs the largest area, None where nothing gets worse.

    Each moment's loss, against the level before, is that of the deepest fall that is not made good
    by then: a deep fall after a shallow one is not lost in it, nor a shallow one that lasts.
    """
    if not shifts:
        return None
    time = time - time[0]
    starts, medians = bin_medians(time, value, bin_width(time))
    active = active_falls(shifts, starts, better)
    depths = np.array([abs(shift.after - shift.before) for shift in shifts])
    deepest = np.where(active, depths[:, None], -1.0).argmax(axis=0)
    before = np.array([shift.before for shift in shifts])
    lost = (before[deepest] - medians) * (-1 if better == "lower" else 1)
    lost = np.where(active.any(axis=0), np.maximum(lost, 0.0), 0.0)
    areas = np.bincount(deepest, lost, len(shifts))
    return int(areas.argmax()) if areas.any() else None


def active_falls(
    shifts: Sequence[LevelShift], time: FloatArray, better: Direction
) -> NDArray[np.bool_]:
    """Which changes for the worse are not made good at which times (s from the start).

    Shape (e, n), for e changes and n times.
    """
    active = np.zeros((len(shifts), len(time)), dtype=bool)
    for n, fall in enumerate(shifts):
        if fall.worsens(better):
            later = (s.at for s in shifts[n + 1 :] if is_back(s.after, fall.before, better))
            active[n] = (time >= fall.at) & (time < next(later, np.inf))
    return active


def is_back(level: float, wanted: float, better: Direction) -> bool:
    """Whether a level is as good as a wanted one, to a twentieth."""
    if better == "lower":
        level, wanted = wanted, level
    return level >= wanted - (1 - _RECOVERED) * abs(wanted)


def _steps(medians: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Of every place the level of the minute before, and the step to the minute after."""
    padded = np.pad(medians, FEWEST_BINS, mode="symmetric")
    minutes = np.median(np.lib.stride_tricks.sliding_window_view(padded, FEWEST_BINS), axis=1)
    before = minutes[: len(medians)]
    return before, minutes[FEWEST_BINS : FEWEST_BINS + len(medians)] - before


def _candidates(medians: FloatArray) -> list[int]:
    """Places where a step is the largest around, in order of time."""
    before, steps = _steps(medians)
    large = np.flatnonzero((steps != 0) & (np.abs(steps) >= LEAST_STEP / 2 * np.abs(before)))
    large = large[(large >= _EDGE_BINS) & (large <= len(medians) - _EDGE_BINS)]
    found: list[int] = []
    for place in large[np.argsort(-np.abs(steps[large]), kind="stable")].tolist():
        near = [p for p in found if abs(p - place) < FEWEST_BINS]
        if all(steps[p] * steps[place] < 0 and abs(p - place) >= _EDGE_BINS for p in near):
            found.append(place)
    return sorted(found)


def _settle(medians: FloatArray, places: list[int]) -> list[int]:
    """The places whose steps are large enough beside each other, the weakest left out first."""
    while places:
        noise = _noise(medians, places)
        strengths = []
        for place, (begin, end) in zip(places, _bounds(places, len(medians)), strict=True):
            before, after = _levels(medians, place, begin, end)
            sizes = [min(FEWEST_BINS, n) for n in (place - begin, end - place)]
            error = noise * np.sqrt(1 / sizes[0] + 1 / sizes[1])
            least = max(LEAST_STEP * abs(before), _LEAST_ERRORS * error)
            strengths.append(abs(after - before) / least if least else np.inf)
        weakest = int(np.argmin(strengths))
        if strengths[weakest] >= 1:
            break
        places = places[:weakest] + places[weakest + 1 :]
    return places


def _bounds(places: Sequence[int], length: int) -> list[tuple[int, int]]:
    """From where to where the levels on both sides of each place reach, in bins."""
    ends = [0, *places, length]
    return list(zip(ends[:-2], ends[2:], strict=True))


def _levels(medians: FloatArray, place: int, begin: int, end: int) -> tuple[float, float]:
    """The levels of the minutes before and after a step, as far as they reach."""
    before, after = medians[begin:place], medians[place:end]
    near = float(np.median(before[-FEWEST_BINS:])), float(np.median(after[:FEWEST_BINS]))
    for gap in _GAPS[1:]:
        if min(len(before), len(after)) < gap + FEWEST_BINS:
            break
        further = (
            float(np.median(before[-FEWEST_BINS - gap : -gap])),
            float(np.median(after[gap : gap + FEWEST_BINS])),
        )
        steps = [levels[1] - levels[0] for levels in (further, near)]
        if steps[0] * steps[1] > 0 and abs(steps[0]) > _CLEARLY_LARGER * abs(steps[1]):
            near = further
    return near


def _noise(medians: FloatArray, places: Sequence[int]) -> float:
    """The standard deviation of a median as if independent, that has minutes differ as they do."""
    successive = np.median(np.abs(np.diff(medians))) / _normal_quantile(0.5) / np.sqrt(2)
    steps = np.abs(_steps(medians)[1])
    calm = np.ones(len(steps), dtype=bool)
    for place in (0, *places, len(steps)):
        calm[max(0, place - FEWEST_BINS) : place + FEWEST_BINS] = False
    # Where most is near a step, the steps themselves are among the larger differences.
    share, steps = (0.5, steps[calm]) if calm.mean() > 0.5 else (0.25, steps)
    minutes = np.quantile(steps, share) / _normal_quantile(share)
    return float(max(successive, minutes * np.sqrt(FEWEST_BINS / 2)))


def _normal_quantile(share: float) -> float:
    """Below which size a standard normal deviate is with a chance of ``share``."""
    return NormalDist().inv_cdf((1 + share) / 2)


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
