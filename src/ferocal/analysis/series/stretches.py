"""Contrasts between stretches of releases and the others, with which changes are looked for."""

from __future__ import annotations

import itertools
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray

# Up to so many releases every stretch is looked at; of more, those of geometric lengths.
_ALL_STRETCHES = 40
_SHORTER, _OVERLAP = 0.6, 3
# Where creeps that are looked for begin and end, as shares of the course.
_CREEPS = ((0.0, 1.0), (0.0, 0.75), (0.25, 1.0), (0.25, 0.75), (0.0, 0.5), (0.5, 1.0))
# A step beside a trend is not looked for that close to an end.
_BESIDE_TREND = 2
# Stretches that are looked at together: as many as stay in the cache of a processor.
_AT_ONCE = 32
# Shorter courses are looked at for steps only.
_CREEPS_FROM = 8


class _Ends(NamedTuple):
    """Stretches of visits, from ``begin`` up to ``end``, shape (k,), of ``visits`` in all.

    The first ``splits`` of them reach to the last visit.
    """

    begin: IntArray
    end: IntArray
    splits: int
    visits: int

    @property
    def mean(self) -> FloatArray:
        """The share of visits that each has."""
        share: FloatArray = (self.end - self.begin) / self.visits
        return share


def _ends(visits: tuple[int, ...], least: int) -> _Ends:
    """The stretches of releases that are looked at, with so many visits on either side at least."""
    count = len(visits)
    stretches = [(i, count) for i in range(1, count)]
    if count <= _ALL_STRETCHES:
        stretches += itertools.combinations(range(1, count), 2)
    else:
        length = count / 2
        while length >= 1:
            size = round(length)
            starts = range(1, count - size, max(1, round(length / _OVERLAP)))
            stretches += [(i, i + size) for i in starts]
            length *= _SHORTER
    first = np.r_[0, np.cumsum(visits)]
    begin, end = first[np.array(list(dict.fromkeys(stretches))).T]
    inner = end - begin
    kept = (inner >= least) & (first[-1] - inner >= least)
    return _Ends(begin[kept], end[kept], int(kept[: count - 1].sum()), int(first[-1]))


def _trend(visits: tuple[int, ...]) -> FloatArray:
    """A steady course over the releases, by visit, of which the mean is zero."""
    release = np.repeat(np.arange(len(visits)), visits)
    trend: FloatArray = release - release.mean()
    return trend


def _creeps(visits: tuple[int, ...]) -> FloatArray:
    """Unit creeps, by visit, shape (m, k)."""
    count = len(visits)
    release = np.repeat(np.arange(count), visits)[:, None]
    ends = np.array(_CREEPS) * (count - 1)
    return _unit(np.clip((release - ends[:, 0]) / (ends[:, 1] - ends[:, 0]), 0.0, 1.0))


def _unit(columns: FloatArray) -> FloatArray:
    columns = columns - columns.mean(axis=0)
    unit: FloatArray = columns / np.sqrt(np.sum(columns**2, axis=0))
    return unit


@lru_cache(maxsize=64)
def contrasts_of(visits: tuple[int, ...], least: int) -> np.ndarray:
    """Unit contrasts between stretches of releases and the others, by visit, shape (m, k).

    So many visits are on either side at least.
    """
    ends, trend = _ends(visits, least), _trend(visits)
    visit = np.arange(ends.visits)[:, None]
    inside = ((visit >= ends.begin) & (visit < ends.end)).astype(np.float64)
    step = (inside - ends.mean)[:, : ends.splits]
    along = np.outer(trend, (trend @ step) / float(np.sum(trend**2)))
    beside = (step - along)[:, _BESIDE_TREND:-_BESIDE_TREND]
    every = [_unit(inside)]
    if len(visits) >= _CREEPS_FROM:
        every += [_unit(beside), _creeps(visits)]
    joined: np.ndarray = np.column_stack(every).astype(np.float32)
    return joined


@lru_cache(maxsize=8)
def _stretches(visits: tuple[int, ...]) -> tuple[_Ends, FloatArray, FloatArray]:
    """The same contrasts by their ends, without creeps, for many releases.

    With them the slope of the trend that is taken off each, and what divides it, shape (k,).
    """
    ends, trend = _ends(visits, 1), _trend(visits)
    before = np.r_[0.0, np.cumsum(trend)]
    squares = ends.visits * ends.mean * (1 - ends.mean)
    chosen = np.arange(ends.splits)[_BESIDE_TREND:-_BESIDE_TREND]
    slope = (before[ends.end] - before[ends.begin])[chosen] / float(np.sum(trend**2))
    left = squares[chosen] - slope**2 * float(np.sum(trend**2))
    every = np.r_[np.arange(len(ends.begin)), chosen]
    whole = _Ends(ends.begin[every], ends.end[every], ends.splits, ends.visits)
    slopes = np.r_[np.zeros(len(ends.begin)), slope]
    return whole, slopes, np.sqrt(np.r_[squares, left])


def largest_of(values: np.ndarray, visits: tuple[int, ...]) -> np.ndarray:
    """The largest contrast of each of some draws, shape (d, m): (d,).

    Of many releases, sums of stretches are differences of sums from the first visit on.
    """
    ends, slopes, scale = _stretches(visits)
    largest: np.ndarray = np.abs(values @ _creeps(visits).astype(np.float32)).max(axis=1)
    sums = np.zeros((ends.visits + 1, len(values)), np.float32)
    np.cumsum(values.T, axis=0, out=sums[1:])
    trend = (values @ _trend(visits).astype(np.float32))[None, :]
    mean, slope, factor = (x.astype(np.float32)[:, None] for x in (ends.mean, slopes, 1 / scale))
    for begin in range(0, len(slopes), _AT_ONCE):
        part = slice(begin, begin + _AT_ONCE)
        found = sums[ends.end[part]] - sums[ends.begin[part]]
        found -= mean[part] * sums[-1]
        if slopes[part].any():
            found -= slope[part] * trend
        np.maximum(largest, np.abs(found * factor[part]).max(axis=0), out=largest)
    return largest
