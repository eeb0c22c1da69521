"""Counts, means and variances of groups of values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray, find_segments


@dataclass(frozen=True)
class Moments:
    """Moments of every group, shape (g,); NaN where a group has too few values."""

    count: IntArray
    runs: IntArray
    mean: FloatArray
    variance: FloatArray


def group_moments(group: IntArray, value: FloatArray, runs: IntArray, size: int) -> Moments:
    """Moments of values of shape (n,), each of the group of that number below ``size``."""
    count = np.bincount(group, minlength=size)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.bincount(group, value, size) / count
        squares = np.bincount(group, (value - mean[group]) ** 2, size)
        # Equal values differ from their mean by its rounding, which is no variation.
        squares[np.sqrt(squares) < 1e-12 * np.abs(mean)] = 0.0
        variance = np.where(count > 1, squares / (count - 1.0), np.nan)
    return Moments(count, np.bincount(group, runs, size).astype(np.int64), mean, variance)


def starts_of(*keys: IntArray) -> tuple[IntArray, IntArray]:
    """Where stretches of equal keys begin in sorted columns, and how long they are."""
    if not len(keys[0]):
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
    segments = find_segments(keys)
    return segments.starts, segments.counts
