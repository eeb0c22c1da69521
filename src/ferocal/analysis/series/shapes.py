"""The shapes of changes: steps and creeps, and where a course may have them."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.series.course import Course

ShiftKind = Literal["step", "creep"]
# A creep goes over so many releases at least; a shorter one cannot be told from a step.
LEAST_LENGTH = 4
# Of more releases creeps begin and end at some of them only.
ALL_ENDS, _SOME_ENDS = 40, 41


class Shape(NamedTuple):
    """A step after the release of index ``begin``, or a creep from there to ``end``.

    With a step the releases may creep from the change before it (``before``), and to the one after
    it (``after``).
    """

    kind: ShiftKind
    begin: int
    end: int
    before: bool = False
    after: bool = False

    def values(self, place: FloatArray) -> FloatArray:
        """Its share at every release, shape (n,), from 0 to 1."""
        if self.kind == "step":
            return (np.arange(len(place)) > self.begin).astype(np.float64)
        return creeps(place, np.array([self.begin]), np.array([self.end]))[:, 0]

    def slopes(self, low: int, high: int) -> list[Shape]:
        """The creeps beside a step amid a stretch: to its first release, and from there on."""
        found = []
        if self.before and self.end - low >= LEAST_LENGTH:
            found.append(Shape("creep", low, self.end))
        if self.after and high - self.end >= LEAST_LENGTH:
            found.append(Shape("creep", self.end, high))
        return found


def creeps(place: FloatArray, begin: IntArray, end: IntArray) -> FloatArray:
    """The shares of creeps from a release to another, shape (n, k)."""
    length = np.maximum(place[end] - place[begin], 1.0)
    found: FloatArray = np.clip((place[:, None] - place[begin]) / length, 0.0, 1.0)
    return found


class Family(NamedTuple):
    """Shapes of one kind: their values, shape (n, k), logarithms of priors, and what they are."""

    values: FloatArray
    prior: FloatArray
    made_of: tuple[Shape, ...]


@lru_cache(maxsize=64)
def _families(place: tuple[int, ...], visits: tuple[int, ...], least: int) -> dict[str, Family]:
    """Steps and creeps, with ``least`` visits beside each step."""
    at, count = np.array(place, dtype=np.float64), len(place)
    mass = np.cumsum(visits)
    able = [i for i in range(count - 1) if mass[i] >= least and mass[-1] - mass[i] >= least]
    steps = [Shape("step", i, i + 1) for i in able]
    some = np.unique(np.linspace(0, count - 1, min(count, _SOME_ENDS)).astype(int)).tolist()
    ends = list(range(count)) if count <= ALL_ENDS else some
    long = [
        Shape("creep", i, j) for i, j in itertools.combinations(ends, 2) if j - i >= LEAST_LENGTH
    ]
    gaps = np.diff(at)
    # Creeps of every length together weigh alike.
    alike = [1 / (count - (c.end - c.begin)) for c in long]
    return {
        "step": _family(steps, [s.values(at) for s in steps], gaps[able]),
        "creep": _family(long, [c.values(at) for c in long], alike),
    }


def _family(
    made_of: Sequence[Shape],
    values: Sequence[FloatArray],
    prior: Sequence[float] | FloatArray,
) -> Family:
    if not made_of:
        return Family(np.zeros((0, 0)), np.zeros(0), ())
    chance = np.asarray(prior, dtype=np.float64)
    return Family(np.array(values).T, np.log(chance / chance.sum()), tuple(made_of))


def families_of(course: Course) -> dict[str, Family]:
    """The shapes that may describe a course, by kind.

    A step has two visits on either side, unless the noise of visits is known otherwise: a single
    one that differs from all others may be one that went wrong.
    """
    visits = tuple(course.visits.tolist())
    return _families(tuple(course.place.tolist()), visits, least_visits(course))


def least_visits(course: Course) -> int:
    """How many visits there are at least on either side of a step."""
    return 1 if course.degrees else 2
