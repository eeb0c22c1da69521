"""Seeking a step over many releases of which few are measured: which visit comes next."""

from __future__ import annotations

import math
from collections.abc import Mapping
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.inference.student import t_cdf
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.place import (
    VISITS_OF_ENDS,
    Whereabouts,
    locate,
    next_release,
)
from ferocal.terms.frozen import dataclass

# While the ends differ by so little that p is above this, further visits to them come first; a
# step that is still doubtful then is not sought.
_DOUBTFUL, _MOST_VISITS_OF_ENDS = 0.1, 6
# A step of fewer standard deviations of a visit than this is given up after so many visits.
LEAST_SEPARATION, _MANY_VISITS = 1.25, 30
# The p-value of all visits below which a step is shown. With what it is multiplied by, and looked
# at after every visit, one search in fifty without any step shows one.
_SHOWN = 0.001


class State(StrEnum):
    """How far the search for a step is."""

    ENDS = "the ends are to be visited"
    SEEKING = "seeking"
    FOUND = "found"
    NO_STEP = "no step is shown between the ends"
    OUT_OF_REACH = "out of reach"


@dataclass(frozen=True)
class Seeking:
    """How far a search is, and the ``release`` to visit next by its place, None where it ends.

    ``shown`` says that all visits together show a step, wherever it is.
    """

    state: State
    release: int | None
    known: Whereabouts | None
    shown: bool = False


def choose_metric(
    courses: Mapping[int, Course], first: int, last: int, floors: Mapping[int, tuple[float, int]]
) -> int | None:
    """The metric of which the ends differ most, chosen once; None while too little is known.

    By the visits to the ends up to that at which the difference of one was not doubtful, or by the
    first six: later ones do not choose another.
    """
    for count in range(VISITS_OF_ENDS, _MOST_VISITS_OF_ENDS + 1):
        chances = {
            n: end_difference(course, first, last, floors[n], most=count)[1]
            for n, course in courses.items()
            if min(_visits_of_ends(course, first, last)) >= count
        }
        best = min(chances, key=lambda n: chances[n], default=None)
        if best is None:
            return None
        doubtful = len(courses) * chances[best] >= _DOUBTFUL
        if not doubtful or count == _MOST_VISITS_OF_ENDS:
            return best
    return None


def _ends_differ(
    course: Course, first: int, last: int, floor: tuple[float, int], metrics: int
) -> bool:
    """Whether it was not doubtful at some number of visits to each end that these differ."""
    most = min(*_visits_of_ends(course, first, last), _MOST_VISITS_OF_ENDS)
    return any(
        metrics * end_difference(course, first, last, floor, most=count)[1] < _DOUBTFUL
        for count in range(VISITS_OF_ENDS, most + 1)
    )


def _visits_of_ends(course: Course, first: int, last: int) -> tuple[int, int]:
    here, there = (int(np.sum(course.visit_place == end)) for end in (first, last))
    return here, there


def seek(
    course: Course | None,
    first: int,
    last: int,
    cost: FloatArray,
    floor: tuple[float, int],
    metrics: int = 1,
) -> Seeking:
    """What is known of the place of a step between two releases, and the visit that comes next.

    Both ends are visited three times first, and up to six times while it is doubtful that they
    differ at all. A step that is doubtful then is not sought, nor one that is so small beside
    the variation of visits that dozens of them do not find it. Its place is found where one has
    nearly all of the probability and all visits show that there is a step. ``cost`` has shape
    (n,), over all releases; ``floor`` is a sum of squares with its degrees of freedom, known
    besides; the metric was chosen among so many ``metrics``.
    """
    part = None if course is None else course.part(first, last)
    counts = (0, 0) if part is None else _visits_of_ends(part, first, last)
    # Back and forth, so that a drift is in both.
    even = counts[0] < counts[1] or (counts[0] == counts[1] and counts[0] % 2 == 0)
    end = first if even else last
    if part is None or min(counts) < VISITS_OF_ENDS:
        return Seeking(State.ENDS, end, None)
    known = locate(part.visit_place - first, part.visit_centre, last - first + 1, *floor)
    if known is None:
        return Seeking(State.NO_STEP, None, None)
    visits = len(part.visit_centre)
    if not _ends_differ(part, first, last, floor, metrics):
        if min(counts) < _MOST_VISITS_OF_ENDS:
            return Seeking(State.ENDS, end, None)
        return Seeking(State.NO_STEP, None, known)
    shown = _chance_of_no_step(part, known, floor[1], metrics) <= _SHOWN
    many = visits >= _MANY_VISITS
    if known.found and (shown or many):
        return Seeking(State.FOUND if shown else State.NO_STEP, None, known, shown)
    if known.found:
        # The place is known, if there is one: what is doubtful is that there is.
        side = first if known.before <= known.after else last
        return Seeking(State.SEEKING, side, known)
    at = next_release(known, cost[first : last + 1])
    if at is None or (many and known.separation < LEAST_SEPARATION):
        return Seeking(State.OUT_OF_REACH, None, known, shown)
    return Seeking(State.SEEKING, first + at, known, shown)


def _chance_of_no_step(course: Course, known: Whereabouts, degrees: int, metrics: int) -> float:
    """The p-value of no step by all visits, one at a time of which was chosen by those before it.

    Student's t of both sides of the best place, multiplied by the number of places between
    releases that were visited, and by the number of metrics of which one was chosen (Bonferroni).
    """
    if not known.sd:
        return 0.0 if known.change else 1.0
    error = known.sd * math.sqrt(1 / known.before + 1 / known.after)
    freedom = len(course.visit_centre) - 3 + degrees
    p_value = 2 * float(t_cdf(freedom, -abs(known.change) / error))
    return min(1.0, p_value * metrics * max(1, len(course.place) - 1))


def end_difference(
    course: Course, first: int, last: int, floor: tuple[float, int], most: int | None = None
) -> tuple[float, float]:
    """The difference of two releases and its p-value, 1 where it is unknown.

    Of so many visits to each at ``most``, the first ones.
    """
    sides = [course.visit_centre[course.visit_place == end][:most] for end in (first, last)]
    if not all(len(side) for side in sides):
        return math.nan, 1.0
    squares = sum(float(np.sum((side - side.mean()) ** 2)) for side in sides) + floor[0]
    degrees = sum(len(side) - 1 for side in sides) + floor[1]
    change = float(sides[1].mean() - sides[0].mean())
    if degrees < 1 or not squares:
        return change, 1.0
    error = math.sqrt(squares / degrees * sum(1 / len(side) for side in sides))
    return change, 2 * float(t_cdf(degrees, -abs(change) / error))
