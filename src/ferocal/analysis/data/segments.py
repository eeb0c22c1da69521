"""Stretches of equal keys in sorted arrays, and what can be said of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ferocal.terms.frozen import dataclass

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Segments:
    """Stretches of an ordered array: where each of the m begins, and how long it is."""

    starts: IntArray
    counts: IntArray

    @property
    def label(self) -> IntArray:
        """The number of the stretch of every element, shape (n,)."""
        return np.repeat(np.arange(len(self.counts)), self.counts)

    def total(self, values: FloatArray) -> FloatArray:
        """Sum of every stretch, shape (m,)."""
        return np.add.reduceat(values, self.starts) if len(self.starts) else np.zeros(0)

    def mean(self, values: FloatArray) -> FloatArray:
        """Mean of every stretch, shape (m,)."""
        return self.total(values) / self.counts

    def variance(self, values: FloatArray) -> FloatArray:
        """Sample variance of every stretch, NaN where it has a single element."""
        squares = self.total((values - self.mean(values)[self.label]) ** 2)
        with np.errstate(invalid="ignore"):
            return np.where(self.counts > 1, squares / (self.counts - 1.0), np.nan)

    def order(self, values: FloatArray) -> IntArray:
        """Indices that put the values of every stretch into ascending order."""
        return sort_within(values, self.label)

    def median(self, values: FloatArray) -> FloatArray:
        """Median of every stretch, shape (m,)."""
        return self.median_of_sorted(values[self.order(values)])

    def median_of_sorted(self, ascending: FloatArray) -> FloatArray:
        """`median` of values that ascend within every stretch."""
        low = self.starts + (self.counts - 1) // 2
        high = self.starts + self.counts // 2
        medians: FloatArray = (ascending[low] + ascending[high]) / 2
        return medians


def sort_within(values: FloatArray, label: IntArray) -> IntArray:
    """Indices that sort by label (whole, not negative), and by value within a label."""
    order = np.argsort(values)
    # NumPy sorts 16 bits at a time by counting, many times faster than it compares.
    for shift in range(0, int(label.max(initial=0)).bit_length(), 16):
        digit = ((label[order] >> shift) & 0xFFFF).astype(np.uint16)
        order = order[np.argsort(digit, kind="stable")]
    return order


def find_segments(keys: Sequence[IntArray]) -> Segments:
    """The stretches in which all of the sorted keys, each of shape (n,), stay the same."""
    length = len(keys[0])
    changes = np.zeros(length, dtype=bool)
    changes[:1] = True
    for key in keys:
        changes[1:] |= key[1:] != key[:-1]
    starts = np.flatnonzero(changes)
    return Segments(starts, np.diff(np.r_[starts, length]))
