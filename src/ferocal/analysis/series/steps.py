"""Steps and creeps of all metrics, with their place and their kind, and what they add up."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.families import adjust_by_family
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.series.breaks import (
    FIRST,
    can_be_searched,
    chance_of_none,
    difference,
    find_breaks,
    pooled_variance,
)
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.kinds import KindEvidence, creep_values, creep_weights, weigh_kinds
from ferocal.analysis.series.place import locate

ShiftKind = Literal["step", "creep"]
# Where such a noise floor is from.
BETWEEN_RELEASES = "how much releases vary between steps"


@dataclass(frozen=True)
class FoundShift:
    """A change of a course between two releases, or over several (``kind`` "creep").

    ``last`` is the release before it and ``first`` the one after, ``earliest`` and ``latest``
    those between which it lies with 95 %, all by their place. Its size is the sum of the releases
    of the course with their ``weights``, shape (n,), which are uncertain by ``doubt`` because its
    place is. ``certainty`` is the probability of this kind against the other, both being as likely
    beforehand, NaN where too few releases were read to tell.
    """

    kind: ShiftKind
    last: int
    first: int
    earliest: int
    latest: int
    weights: FloatArray
    doubt: float
    certainty: float


@dataclass(frozen=True)
class Spread:
    """How much releases of a course vary beside its steps: the variance of a visit."""

    variance: float
    degrees: int

    def floor(self, scale: Scale, runs: float) -> NoiseFloor:
        """The same as a noise floor, for intervals between single visits."""
        return NoiseFloor(
            scale, self.variance, self.degrees, runs, math.nan, 0, BETWEEN_RELEASES, age=math.nan
        )


@dataclass(frozen=True)
class Search:
    """What was found in a course; ``spread`` is None where nothing says how much releases vary."""

    course: Course
    shifts: tuple[FoundShift, ...]
    spread: Spread | None
    searched: bool

    @property
    def stretches(self) -> list[tuple[int, int]]:
        """The first and last place of every stretch between its shifts; what creeps is in none.

        A creep may end where the next shift has begun: there is no stretch between them.
        """
        at = self.course.place
        if not len(at):
            return []
        begins = [int(at[0]), *(shift.first for shift in self.shifts)]
        ends = [*(shift.last for shift in self.shifts), int(at[-1])]
        return [(a, b) for a, b in zip(begins, ends, strict=True) if a <= b]

    def level_weights(self, first: int, last: int) -> FloatArray:
        """With which weights releases make the mean level of a stretch, by place; shape (n,)."""
        rows = (self.course.place >= first) & (self.course.place <= last)
        weights: FloatArray = self.course.visits * rows / float(self.course.visits[rows].sum())
        return weights


def search_courses(courses: Sequence[Course], series: Sequence[Series]) -> tuple[Search, ...]:
    """The steps of all courses; the metrics of one role are one family (Holm 1979)."""
    can = np.array([can_be_searched(course) for course in courses], dtype=bool)
    roles = [series[course.series].role for course in courses]
    family = Counter(role for role, searched in zip(roles, can.tolist(), strict=True) if searched)
    p_values = np.array(
        [chance_of_none(c, family[role]) for c, role in zip(courses, roles, strict=True)]
    )
    adjusted, _, _ = adjust_by_family(p_values, roles, can)
    return tuple(
        _search(course, p <= FIRST, searched)
        for course, p, searched in zip(courses, adjusted.tolist(), can.tolist(), strict=True)
    )


def _search(course: Course, some: bool, searched: bool) -> Search:
    breaks = find_breaks(course) if some else []
    if not breaks:
        variance, degrees = pooled_variance(course, ())
        known = Spread(variance, degrees) if degrees > 0 and variance > 0 else None
        return Search(course, (), known, searched)
    groups = list(_groups(course, breaks))
    fitted = _segment_means(course, breaks)
    for group in groups:
        if group.creep is not None:
            fitted[group.first : group.end] = group.creep_values
    squares = float(np.sum(course.visits * (course.centre - fitted) ** 2))
    _, degrees = pooled_variance(course, breaks)
    if degrees > len(course.centre) - len(breaks) - 1:
        squares += course.squares
    # Where it begins and ends is fitted, too.
    degrees -= 2 * sum(group.creep is not None for group in groups)
    spread = Spread(squares / degrees, degrees) if degrees > 0 and squares > 0 else None
    variance = 0.0 if spread is None else spread.variance
    shifts = tuple(s for group in groups for s in group.shifts(variance))
    return Search(course, shifts, spread, searched)


def _segment_means(course: Course, breaks: Sequence[int]) -> FloatArray:
    fitted = course.centre.copy()
    for first, last in itertools.pairwise([0, *breaks, len(fitted)]):
        fitted[first:last] = np.average(fitted[first:last], weights=course.visits[first:last])
    return fitted


@dataclass(frozen=True)
class _Group:
    """Breaks in one direction that follow each other, from the segment before to that after.

    ``ends`` are the indices where its segments begin and end.
    """

    course: Course
    ends: tuple[int, ...]
    certainty: float
    creep: KindEvidence | None

    @property
    def first(self) -> int:
        return self.ends[0]

    @property
    def end(self) -> int:
        return self.ends[-1]

    @property
    def part(self) -> Course:
        """The releases of the group alone."""
        at = self.course.place
        return self.course.part(int(at[self.first]), int(at[self.end - 1]))

    @property
    def creep_values(self) -> FloatArray:
        """The values of the creep, shape (n,)."""
        assert self.creep is not None
        return creep_values(self.part, self.creep.begin, self.creep.end)

    def shifts(self, variance: float) -> Iterator[FoundShift]:
        """The group as a creep, or as a step between each segment and the next.

        ``variance`` is that of a visit.
        """
        if self.creep is None:
            for first, middle, last in zip(self.ends, self.ends[1:], self.ends[2:], strict=False):
                found = _step(self.course, first, middle, last, variance)
                yield replace(found, certainty=self.certainty)
            return
        part, known = self.part, self.creep
        begin, end = (int(part.place[n]) for n in (known.begin, known.end))
        weights = np.zeros(len(self.course.place))
        weights[self.first : self.end] = creep_weights(part)
        hidden = known.factor - float(np.sum(weights**2 / self.course.visits))
        doubt = math.sqrt(known.between + variance * max(0.0, hidden))
        yield FoundShift("creep", begin, end, begin, end, weights, doubt, self.certainty)


def _step(course: Course, first: int, middle: int, last: int, variance: float) -> FoundShift:
    """A step over all places where it may be, and between which releases it is.

    The mean over places varies less than a step at one of them does: that is in the doubt, too.
    It is there with 95 % probability; if that is unknown, the place is as found.
    """
    at = course.place
    begin, end = int(at[first]), int(at[last - 1])
    beside = int(at[middle - 1]), int(at[middle])
    part = course.part(begin, end)
    known = locate(part.visit_place - begin, part.visit_centre, end - begin + 1)
    if known is None:
        weights = _difference_weights(course, first, middle, last)
        return FoundShift("step", *beside, *beside, weights, 0.0, math.nan)
    low, high = known.span()
    before = part.place[part.place <= begin + low].max(initial=begin)
    after = part.place[part.place > begin + high].min(initial=end)
    cuts = range(first + 1, last)
    # Places between releases that were not read are one for the size.
    chance = np.array([known.chance[at[n - 1] - begin : at[n] - begin].sum() for n in cuts])
    sizes, factors = np.array([difference(course, first, n, last) for n in cuts]).T
    total = float(chance @ sizes)
    weights = chance @ np.array([_difference_weights(course, first, n, last) for n in cuts])
    hidden = float(chance @ factors) - float(np.sum(weights**2 / course.visits))
    doubt = math.sqrt(float(chance @ (sizes - total) ** 2) + variance * max(0.0, hidden))
    span = min(int(before), beside[0]), max(int(after), beside[1])
    return FoundShift("step", *beside, *span, weights, doubt, math.nan)


def _difference_weights(course: Course, first: int, middle: int, last: int) -> FloatArray:
    """With which weights releases make the difference of two adjacent segments, shape (n,)."""
    weights = np.zeros(len(course.place))
    for a, b, sign in ((first, middle, -1.0), (middle, last, 1.0)):
        weights[a:b] = sign * course.visits[a:b] / float(course.visits[a:b].sum())
    return weights


def _groups(course: Course, breaks: Sequence[int]) -> Iterator[_Group]:
    """Breaks in one direction together, each group as steps or as a creep."""
    ends = [0, *breaks, len(course.centre)]
    changes = [
        difference(course, a, b, c)[0] for a, b, c in zip(ends, ends[1:], ends[2:], strict=False)
    ]
    begin = 0
    for _, together in itertools.groupby(changes, key=lambda change: change > 0):
        count = len(list(together))
        group = _Group(course, tuple(ends[begin : begin + count + 2]), math.nan, None)
        yield _with_kind(group, several=count > 1)
        begin += count


def _with_kind(group: _Group, *, several: bool) -> _Group:
    known = weigh_kinds(group.part)
    if known is None:
        return group
    steps = max(known.step, known.two_steps) if several else known.step
    odds = known.creep - steps
    creep = 1 / (1 + math.exp(-odds)) if abs(odds) < 500 else float(odds > 0)
    if creep > 0.5:
        return replace(group, certainty=creep, creep=known)
    return replace(group, certainty=1 - creep)


# At this level releases that vary more than visits do so by more than chance.
_MORE = 0.01


def varies_more_than_visits(search: Search) -> bool:
    """Whether releases between two steps differ by more than visits to one of them (Fisher's F).

    Never of a course that was not searched: what its releases differ by may be a step.
    """
    if not search.searched or any(shift.kind == "creep" for shift in search.shifts):
        return False
    course = search.course
    index = np.searchsorted(course.place, course.visit_place)
    left = course.visit_centre - course.centre[index]
    own = len(index) - len(course.place)
    between, degrees = pooled_variance(
        replace(course, squares=0.0, degrees=0),
        [int(np.searchsorted(course.place, first)) for first, _ in search.stretches[1:]],
    )
    if own < 1 or degrees < 1:
        return False
    from scipy.special import fdtrc

    within = float(left @ left) / own
    return within > 0 and float(fdtrc(degrees, own, between / within)) < _MORE


def course_of_difference(one: Course, other: Course) -> Course:
    """The first course less the second, of the releases that both have.

    A visit of a difference is as good as both together: with the harmonic mean of their visits,
    half of it, rounded down to one at least.
    """
    place, here, there = np.intersect1d(one.place, other.place, return_indices=True)
    centre = one.centre[here] - other.centre[there]
    a, b = one.visits[here], other.visits[there]
    visits = np.maximum(1, (a * b) // np.maximum(1, a + b))
    return Course(
        one.series, one.scale, place, centre, visits.astype(np.int64), 0.0, 0, place, centre
    )
