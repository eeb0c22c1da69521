"""Breaks: between which releases a course changes by more than chance."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from functools import lru_cache

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.student import t_cdf
from ferocal.analysis.series.course import Course

# From so many releases on the order of the data is permuted; critical values of fewer are
# simulated.
PERMUTED_FROM = 15
_PERMUTATIONS, _SIMULATIONS = 1999, 20_000
# With so many times as many orders as a family has members, the least p-value of two statistics is
# half of the level after its adjustment.
_FINE_ENOUGH = 80
# Levels of the first test, of deeper ones, and of the last check of every break.
FIRST, _DEEPER, _LAST = 0.05, 0.02, 0.01
# Fewer degrees of freedom say too little of how much releases vary.
_LEAST_DEGREES = 3


def can_be_searched(course: Course) -> bool:
    """Whether there are enough releases, or enough common rounds, to look for breaks."""
    count = len(course.centre)
    return count >= 2 and count - 2 + _degrees(course) >= _LEAST_DEGREES


def chance_of_none(course: Course, family: int = 1) -> float:
    """The p-value of a course without any break; 1 where nothing can be said.

    It is as fine as a ``family`` of so many courses needs, so that the least of all can be
    significant after it is multiplied by their number.
    """
    return _test(course, 0, len(course.centre), family)[0]


def find_breaks(course: Course) -> list[int]:
    """The breaks of a course of which the first test is passed, as indices of its releases.

    A break is before the release of that index. Segments are split further at a level of 0.02,
    by one break, or by two where a course goes up and comes down again (Olshen, Venkatraman,
    Lucito and Wigler 2004, Circular binary segmentation, Biostatistics 5, 557-572). In the end
    every break has to hold at a level of 0.01 between the segments beside it.
    """
    _, cuts = _test(course, 0, len(course.centre))
    found = list(cuts)
    ends = [0, *cuts, len(course.centre)]
    for first, last in itertools.pairwise(ends):
        found += _deeper(course, first, last)
    return _prune(course, sorted(found))


def _deeper(course: Course, first: int, last: int) -> list[int]:
    p_value, cuts = _test(course, first, last)
    if p_value > _DEEPER or not cuts:
        return []
    ends = [first, *cuts, last]
    return [*cuts, *(c for a, b in itertools.pairwise(ends) for c in _deeper(course, a, b))]


def _degrees(course: Course) -> int:
    """Degrees of freedom of common rounds, which count where releases are few."""
    return course.degrees if len(course.centre) < PERMUTED_FROM else 0


def _test(course: Course, first: int, last: int, family: int = 1) -> tuple[float, list[int]]:
    """The p-value of no break among some releases, and the best break, or pair of breaks."""
    value, weight = course.centre[first:last], course.visits[first:last].astype(float)
    count, degrees = last - first, _degrees(course)
    if count < 2 or count - 2 + degrees < _LEAST_DEGREES:
        return 1.0, []
    centred = value - np.average(value, weights=weight)
    total = float(np.sum(weight * centred**2)) + (course.squares if degrees else 0.0)
    if total <= np.finfo(float).eps * float(np.sum(weight * value**2)):
        return 1.0, []
    split = _splits(centred * weight, weight)
    place = int(split.argmax())
    if count < PERMUTED_FROM:
        size = max(_SIMULATIONS, _FINE_ENOUGH * family)
        null = _simulated(tuple(weight.tolist()), degrees, size)
        beyond = len(null) - int(np.searchsorted(null, split[place] / total))
        return (1 + beyond) / (1 + len(null)), [first + place + 1]
    moved, weights = _shuffled(centred * weight, weight, 0)
    beyond = _count_beyond(_splits(moved, weights).max(axis=-1), split[place])
    if not beyond:  # no statistic can be more unlikely, but this may be more unlikely than seen
        more = _many_beyond(centred * weight, weight, split[place], family, _largest_split)
        return 2 * more, [first + place + 1]
    p_split = (1 + beyond) / (1 + _PERMUTATIONS)
    arc, begin, end = (float(x) for x in _best_arc(centred * weight, weight))
    beyond = _count_beyond(_best_arc(moved, weights)[0], arc)
    p_arc = (1 + beyond) / (1 + _PERMUTATIONS)
    if not beyond:
        p_arc = _many_beyond(centred * weight, weight, arc, family, _largest_arc)
    # Half of the level for each of the two statistics.
    cuts = [place + 1] if p_split <= p_arc else [int(begin), int(end)]
    return min(1.0, 2 * min(p_split, p_arc)), [first + cut for cut in cuts]


def _many_beyond(
    weighted: FloatArray,
    weight: FloatArray,
    seen: float,
    family: int,
    statistic: Callable[[FloatArray, FloatArray], FloatArray],
) -> float:
    """The p-value of a statistic that no order of the first has reached, from as many as needed."""
    blocks = -(-_FINE_ENOUGH * family // _PERMUTATIONS)
    beyond = sum(
        _count_beyond(statistic(*_shuffled(weighted, weight, block)), seen)
        for block in range(1, blocks)
    )
    return (1 + beyond) / (1 + max(1, blocks) * _PERMUTATIONS)


def _largest_split(weighted: FloatArray, weight: FloatArray) -> FloatArray:
    largest: FloatArray = _splits(weighted, weight).max(axis=-1)
    return largest


def _largest_arc(weighted: FloatArray, weight: FloatArray) -> FloatArray:
    return _best_arc(weighted, weight)[0]


def _shuffled(
    weighted: FloatArray, weight: FloatArray, block: int
) -> tuple[FloatArray, FloatArray]:
    """Values and weights in a block of orders, shape (p, n) each."""
    orders = _permutations(len(weight), block)
    return weighted[orders], weight[orders]


def _count_beyond(null: FloatArray, seen: float) -> int:
    """How many of a null distribution are as large as what was seen."""
    return int(np.sum(null >= seen * (1 - 1e-12)))


def _splits(weighted: FloatArray, weight: FloatArray) -> FloatArray:
    """The sum of squares between both sides of every split; shape (..., n − 1)."""
    sums = np.cumsum(weighted, axis=-1)[..., :-1]
    left = np.cumsum(weight, axis=-1)[..., :-1]
    right = np.sum(weight, axis=-1, keepdims=True) - left
    squares: FloatArray = sums**2 * (1 / left + 1 / right)
    return squares


def _best_arc(
    weighted: FloatArray, weight: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """The largest sum of squares between an inner stretch and the rest, and its ends."""
    shape = weighted.shape[:-1]
    count = weighted.shape[-1]
    zero = np.zeros((*shape, 1))
    sums = np.concatenate([zero, np.cumsum(weighted, axis=-1)], axis=-1)
    mass = np.concatenate([zero, np.cumsum(weight, axis=-1)], axis=-1)
    whole = mass[..., -1:]
    best, begin, end = (np.zeros(shape) for _ in range(3))
    for i in range(1, count - 1):
        inner = mass[..., i + 1 : count] - mass[..., i : i + 1]
        squares = (sums[..., i + 1 : count] - sums[..., i : i + 1]) ** 2
        squares *= 1 / inner + 1 / (whole - inner)
        at = squares.argmax(axis=-1)
        top = np.take_along_axis(squares, at[..., None], axis=-1)[..., 0]
        begin = np.where(top > best, i, begin)
        end = np.where(top > best, i + 1 + at, end)
        best = np.maximum(top, best)
    return best, begin, end


@lru_cache(maxsize=256)
def _permutations(count: int, block: int) -> IntArray:
    """A block of orders of so many releases, shape (p, n); the same whenever it is asked for."""
    seed = [count, _PERMUTATIONS]
    chance = np.random.default_rng([*seed, block] if block else seed)
    return np.argsort(chance.random((_PERMUTATIONS, count)), axis=1)


@lru_cache(maxsize=256)
def _simulated(weights: tuple[float, ...], degrees: int, size: int) -> FloatArray:
    """The share of the largest split where nothing changes, sorted; shape (s,)."""
    weight = np.array(weights)
    chance = np.random.default_rng([len(weights), degrees])
    value = chance.normal(size=(size, len(weight))) / np.sqrt(weight)
    value -= np.average(value, axis=-1, weights=weight)[:, None]
    total = np.sum(weight * value**2, axis=-1)
    if degrees:
        total += chance.chisquare(degrees, size)
    return np.sort(_splits(value * weight, np.broadcast_to(weight, value.shape)).max(-1) / total)


def pooled_variance(course: Course, breaks: Sequence[int]) -> tuple[float, int]:
    """The variance of a visit within the segments between breaks, and its degrees of freedom."""
    degrees = _degrees(course)
    squares = course.squares if degrees else 0.0
    for first, last in itertools.pairwise([0, *breaks, len(course.centre)]):
        value, weight = course.centre[first:last], course.visits[first:last]
        squares += float(np.sum(weight * (value - np.average(value, weights=weight)) ** 2))
    degrees += len(course.centre) - len(breaks) - 1
    return (squares / degrees if degrees > 0 else float("nan")), degrees


def difference(course: Course, first: int, middle: int, last: int) -> tuple[float, float]:
    """By how much two adjacent segments differ, and the variance factor of that."""
    sides = [(course.centre[a:b], course.visits[a:b]) for a, b in ((first, middle), (middle, last))]
    left, right = (float(np.average(value, weights=weight)) for value, weight in sides)
    return right - left, sum(1 / float(weight.sum()) for _, weight in sides)


def _prune(course: Course, breaks: list[int]) -> list[int]:
    """Only breaks that hold between the segments beside them, the weakest dropped first."""
    while breaks:
        variance, degrees = pooled_variance(course, breaks)
        if degrees < 1 or variance == 0:
            return breaks
        ends = [0, *breaks, len(course.centre)]
        p_values = []
        for first, middle, last in zip(ends, ends[1:], ends[2:], strict=False):
            change, factor = difference(course, first, middle, last)
            t = abs(change) / np.sqrt(variance * factor)
            p_values.append(2 * float(t_cdf(degrees, -t)))
        weakest = int(np.argmax(p_values))
        if p_values[weakest] <= _LAST:
            return breaks
        del breaks[weakest]
    return breaks
