"""Kinds of changes: a step between two releases, or a creep over several."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.series.course import Course

# A creep goes over so many releases at least; a shorter one cannot be told from a step.
_LEAST_LENGTH = 3
# How much of a change in two steps is in the first.
_SHARES = (0.3, 0.5, 0.7)


class KindEvidence(NamedTuple):
    """How well a course is described by a step, by two in the same direction, by a creep.

    Each is the logarithm of a mean likelihood. ``begin`` and ``end`` are the indices between
    which the best creep goes; ``factor`` and ``between`` are what the variance of its whole change
    is made of: a multiple of that of a visit, and that over its ends.
    """

    step: float
    two_steps: float
    creep: float
    begin: int
    end: int
    factor: float
    between: float


def creep_weights(course: Course) -> FloatArray:
    """With which weights the releases of a course make the whole change of a creep, shape (n,).

    The mean over all creeps, each as likely as it is.
    """
    weight = course.visits.astype(float)
    of = _shapes(tuple(course.place.tolist()), tuple(weight.tolist()))[2]
    value = np.sqrt(weight) * (course.centre - np.average(course.centre, weights=weight))
    logs = _log_likelihood(of, value, course)
    chance = np.exp(logs - np.logaddexp.reduce(logs))
    weights: FloatArray = np.sqrt(weight) * ((chance / of.size) @ of.unit)
    return weights


def _log_likelihood(of: _Shapes, value: FloatArray, course: Course) -> FloatArray:
    total = float(value @ value) + course.squares
    degrees = len(course.centre) - 2 + course.degrees
    left = np.maximum(total - (of.unit @ value) ** 2, 1e-12 * total)
    logs: FloatArray = -np.log(of.size) - degrees / 2 * np.log(left) + of.prior
    return logs


def weigh_kinds(course: Course) -> KindEvidence | None:
    """Weigh kinds of one change over a whole course; None where a creep would be too short.

    Each kind is a family of shapes from 0 to 1. The likelihood of a shape has the level and the
    size of the change integrated out over flat priors and the variance over its inverse, that of
    a kind is the mean over its shapes, creeps of every length together weighing alike (Zellner
    1971, An introduction to Bayesian inference in econometrics, chapters 3 and 10).
    """
    count = len(course.centre)
    if count <= _LEAST_LENGTH:
        return None
    weight = course.visits.astype(float)
    shapes = _shapes(tuple(course.place.tolist()), tuple(weight.tolist()))
    value = np.sqrt(weight) * (course.centre - np.average(course.centre, weights=weight))
    if not float(value @ value) + course.squares:
        return None
    steps, pairs, creeps = (_log_likelihood(of, value, course) for of in shapes)
    of = shapes[2]
    whole = float(np.logaddexp.reduce(creeps))
    chance = np.exp(creeps - whole)
    each = (of.unit @ value) / of.size
    mean = float(chance @ each)
    begin, end = of.ends[int(creeps.argmax())].tolist()
    return KindEvidence(
        float(np.logaddexp.reduce(steps)),
        float(np.logaddexp.reduce(pairs)),
        whole,
        begin,
        end,
        float(chance @ (1 / of.size**2)),
        float(chance @ (each - mean) ** 2),
    )


class _Shapes(NamedTuple):
    """Shapes of one kind: unit vectors, shape (k, n), their former size, logarithms of priors."""

    unit: FloatArray
    size: FloatArray
    prior: FloatArray
    ends: IntArray


@lru_cache(maxsize=64)
def _shapes(place: tuple[int, ...], weight: tuple[float, ...]) -> tuple[_Shapes, ...]:
    at, count = np.array(place, dtype=float), len(place)
    order = np.arange(count)
    steps = [(order > i).astype(float) for i in range(count - 1)]
    pairs = [
        share * (order > i) + (1 - share) * (order > j)
        for i in range(count - 1)
        for j in range(i + 1, count - 1)
        for share in _SHARES
    ]
    ends = [(i, j) for i in range(count) for j in range(i + _LEAST_LENGTH, count)]
    creeps = [np.clip((at - at[i]) / (at[j] - at[i]), 0, 1) for i, j in ends]
    alike = [1 / (count - (j - i)) for i, j in ends]
    none = np.zeros((0, 2), dtype=np.int64)
    return (
        _made(steps, weight, np.ones(len(steps)), none),
        _made(pairs, weight, np.ones(len(pairs)), none),
        _made(creeps, weight, np.array(alike), np.array(ends)),
    )


def _made(
    shapes: list[FloatArray], weight: tuple[float, ...], prior: FloatArray, ends: IntArray
) -> _Shapes:
    weights = np.array(weight)
    rows = np.array(shapes)
    rows = np.sqrt(weights) * (rows - np.average(rows, axis=1, weights=weights)[:, None])
    size = np.sqrt(np.sum(rows**2, axis=1))
    return _Shapes(rows / size[:, None], size, np.log(prior / prior.sum()), ends)


def creep_values(course: Course, begin: int, end: int) -> FloatArray:
    """The values of a creep between two releases by their indices, shape (n,)."""
    weight = course.visits.astype(float)
    at = course.place.astype(float)
    shape = np.clip((at - at[begin]) / (at[end] - at[begin]), 0, 1)
    shape -= np.average(shape, weights=weight)
    total = float(np.sum(weight * shape * course.centre)) / float(np.sum(weight * shape**2))
    values: FloatArray = np.average(course.centre, weights=weight) + total * shape
    return values
