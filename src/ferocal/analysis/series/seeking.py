"""Seeking a step over many releases of which few are measured: which visit comes next."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.inference.student import t_cdf
from ferocal.analysis.inference.verdicts import SIGNIFICANCE
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.place import (
    VISITS_OF_ENDS,
    Whereabouts,
    locate,
    next_release,
)

# While the ends differ by so little that p is above this, further visits to them come first.
_DOUBTFUL, _MOST_VISITS_OF_ENDS = 0.15, 6
# A step of fewer standard deviations of a visit than this is given up after so many visits.
LEAST_SEPARATION, _MANY_VISITS = 1.25, 30


class State(StrEnum):
    """How far the search for a step is."""

    ENDS = "the ends are to be visited"
    SEEKING = "seeking"
    FOUND = "found"
    NO_STEP = "no step is shown between the ends"
    OUT_OF_REACH = "out of reach"


@dataclass(frozen=True)
class Seeking:
    """How far a search is, and the ``release`` to visit next by its place, None where it ends."""

    state: State
    release: int | None
    known: Whereabouts | None


def seek(
    course: Course | None, first: int, last: int, cost: FloatArray, floor: tuple[float, int]
) -> Seeking:
    """What is known of the place of a step between two releases, and the visit that comes next.

    Both ends are visited three times first, and up to six times while it is doubtful that they
    differ at all. A step that is not shown then is not sought, nor one that is so small beside
    the variation of visits that dozens of them do not find it. ``cost`` has shape (n,), over all
    releases; ``floor`` is a sum of squares with its degrees of freedom, known besides.
    """
    part = None if course is None else course.part(first, last)
    counts = [0 if part is None else int(np.sum(part.visit_place == end)) for end in (first, last)]
    # Back and forth, so that a drift is in both.
    even = counts[0] < counts[1] or (counts[0] == counts[1] and counts[0] % 2 == 0)
    end = first if even else last
    if part is None or min(counts) < VISITS_OF_ENDS:
        return Seeking(State.ENDS, end, None)
    known = locate(part.visit_place - first, part.visit_centre, last - first + 1, *floor)
    if known is None:
        return Seeking(State.NO_STEP, None, None)
    p_value = end_difference(part, first, last, floor)[1]
    if p_value >= _DOUBTFUL and min(counts) < _MOST_VISITS_OF_ENDS:
        return Seeking(State.ENDS, end, None)
    visits = len(part.visit_centre)
    if p_value >= SIGNIFICANCE and visits == sum(counts) and min(counts) >= _MOST_VISITS_OF_ENDS:
        return Seeking(State.NO_STEP, None, known)
    if known.found:
        return Seeking(State.FOUND, None, known)
    at = next_release(known, cost[first : last + 1])
    if at is None or (visits >= _MANY_VISITS and known.separation < LEAST_SEPARATION):
        return Seeking(State.OUT_OF_REACH, None, known)
    return Seeking(State.SEEKING, first + at, known)


def end_difference(
    course: Course, first: int, last: int, floor: tuple[float, int]
) -> tuple[float, float]:
    """The difference of two releases and its p-value, 1 where it is unknown."""
    sides = [course.visit_centre[course.visit_place == end] for end in (first, last)]
    if not all(len(side) for side in sides):
        return math.nan, 1.0
    squares = sum(float(np.sum((side - side.mean()) ** 2)) for side in sides) + floor[0]
    degrees = sum(len(side) - 1 for side in sides) + floor[1]
    change = float(sides[1].mean() - sides[0].mean())
    if degrees < 1 or not squares:
        return change, 1.0
    error = math.sqrt(squares / degrees * sum(1 / len(side) for side in sides))
    return change, 2 * float(t_cdf(degrees, -abs(change) / error))
