"""Steps and creeps of all metrics, with their size, their place and their kind."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series, change_of
from ferocal.analysis.inference.families import adjust_by_family
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.student import t_cdf, t_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE, Verdict
from ferocal.analysis.series.breaks import (
    FIRST,
    can_be_searched,
    chance_of_none,
    difference,
    find_breaks,
    pooled_variance,
)
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.kinds import KindEvidence, creep_values, weigh_kinds
from ferocal.analysis.series.place import locate

ShiftKind = Literal["step", "creep"]
# A level that is back where it was differs from that by no more than chance at this level.
_SAME = 0.05


@dataclass(frozen=True)
class SeriesShift:
    """A change of a metric between two releases, or over several (``kind`` "creep").

    ``last`` is the release before it and ``first`` the one after, ``earliest`` and ``latest``
    those between which it lies with 95 %, all by their place. ``change``, ``low`` and ``high``
    are shares, or in the unit on the "difference" scale. ``certainty`` is the probability of this
    kind against the other, both being as likely beforehand, NaN where too few releases were
    read to tell. ``undone`` is the release that undid it, None where it was not.
    """

    bench: str
    series: Series
    scale: Scale
    kind: ShiftKind
    last: int
    first: int
    earliest: int
    latest: int
    change: float
    low: float
    high: float
    p_value: float
    certainty: float
    verdict: Verdict
    undone: int | None = None
    bound: None = None


@dataclass(frozen=True)
class Spread:
    """How much releases of a course vary beside its steps: the variance of a visit."""

    variance: float
    degrees: int

    def floor(self, scale: Scale, runs: float) -> NoiseFloor:
        """The same as a noise floor, for intervals between single visits."""
        source = "how much releases vary between steps"
        return NoiseFloor(
            scale, self.variance, self.degrees, runs, math.nan, 0, source, age=math.nan
        )


@dataclass(frozen=True)
class Search:
    """What was found in a course: its steps and its spread; None for what cannot be known."""

    course: Course
    steps: tuple[SeriesShift, ...]
    spread: Spread | None
    searched: bool


def search_courses(
    courses: Sequence[Course], series: Sequence[Series], bench: str
) -> tuple[Search, ...]:
    """The steps of all courses; the metrics of one role are one family (Holm 1979)."""
    can = np.array([can_be_searched(course) for course in courses], dtype=bool)
    roles = [series[course.series].role for course in courses]
    family = Counter(role for role, searched in zip(roles, can.tolist(), strict=True) if searched)
    p_values = np.array(
        [chance_of_none(c, family[role]) for c, role in zip(courses, roles, strict=True)]
    )
    adjusted, _, _ = adjust_by_family(p_values, roles, can)
    return tuple(
        _search(course, series[course.series], bench, p <= FIRST, searched)
        for course, p, searched in zip(courses, adjusted.tolist(), can.tolist(), strict=True)
    )


def _search(course: Course, series: Series, bench: str, some: bool, searched: bool) -> Search:
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
    spread = Spread(squares / degrees, degrees) if degrees > 0 else None
    steps = [step for group in groups for step in group.steps(series, bench, spread)]
    return Search(course, tuple(_with_returns(course, steps, breaks, spread)), spread, searched)


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

    def steps(self, series: Series, bench: str, spread: Spread | None) -> Iterator[SeriesShift]:
        part = self.part
        if self.creep is not None:
            known = self.creep
            begin, end = (int(part.place[n]) for n in (known.begin, known.end))
            size = _Size(known.total, known.factor, known.between)
            found = _judge(self.course, series, size, spread)
            yield SeriesShift(
                bench, series, self.course.scale, "creep", begin, end, begin, end, *found[:4],
                self.certainty, found[4],
            )  # fmt: skip
            return
        for first, middle, last in zip(self.ends, self.ends[1:], self.ends[2:], strict=False):
            size, span = _size_of_step(self.course, first, middle, last)
            found = _judge(self.course, series, size, spread)
            before, after = (int(self.course.place[n]) for n in (middle - 1, middle))
            yield SeriesShift(
                bench, series, self.course.scale, "step", before, after, *span, *found[:4],
                self.certainty, found[4],
            )  # fmt: skip


class _Size(NamedTuple):
    """The size of a change, with what its variance is made of, as in `KindEvidence`."""

    total: float
    factor: float
    between: float


def _size_of_step(
    course: Course, first: int, middle: int, last: int
) -> tuple[_Size, tuple[int, int]]:
    """The size of a step over all places where it may be, and between which releases it is.

    It is there with 95 % probability; if that is unknown, the place is as found.
    """
    at = course.place
    begin, end = int(at[first]), int(at[last - 1])
    part = course.part(begin, end)
    known = locate(part.visit_place - begin, part.visit_centre, end - begin + 1)
    beside = int(at[middle - 1]), int(at[middle])
    if known is None:
        return _Size(*difference(course, first, middle, last), 0.0), beside
    low, high = known.span()
    before = part.place[part.place <= begin + low].max(initial=begin)
    after = part.place[part.place > begin + high].min(initial=end)
    cuts = range(first + 1, last)
    # Places between releases that were not read are one for the size.
    chance = np.array([known.chance[at[n - 1] - begin : at[n] - begin].sum() for n in cuts])
    sizes = np.array([difference(course, first, n, last) for n in cuts])
    total = float(chance @ sizes[:, 0])
    between = float(chance @ (sizes[:, 0] - total) ** 2)
    span = min(int(before), beside[0]), max(int(after), beside[1])
    return _Size(total, float(chance @ sizes[:, 1]), between), span


def _judge(
    course: Course, series: Series, size: _Size, spread: Spread | None
) -> tuple[float, float, float, float, Verdict]:
    """Change with the ends of its interval, p-value and verdict."""
    total = size.total
    change = change_of(total, course.scale)
    if spread is None or spread.variance == 0:
        return change, math.nan, math.nan, math.nan, Verdict.SEEN_ONCE
    error = math.sqrt(spread.variance * size.factor + size.between)
    half = error * float(t_quantile(spread.degrees, 0.5 + CONFIDENCE / 2))
    p_value = 2 * float(t_cdf(spread.degrees, -abs(total) / error))
    low, high = total - half, total + half
    verdict = Verdict.INCONCLUSIVE
    if series.better == "none":
        verdict = Verdict.NOT_JUDGED
    elif low > 0 or high < 0:
        verdict = Verdict.BETTER if (total > 0) == (series.better == "higher") else Verdict.WORSE
    low, high = (change_of(end, course.scale) for end in (low, high))
    return change, low, high, p_value, verdict


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


def _with_returns(
    course: Course, steps: Sequence[SeriesShift], breaks: Sequence[int], spread: Spread | None
) -> Iterator[SeriesShift]:
    """Steps with the release that took them back, where the level is what it was before."""
    for step, follower in itertools.zip_longest(steps, steps[1:]):
        opposite = follower is not None and (follower.change > 0) != (step.change > 0)
        if not opposite or spread is None or spread.variance == 0:
            yield step
            continue
        before, after = (_level(course, breaks, place) for place in (step.last, follower.first))
        error = math.sqrt(spread.variance * (before[1] + after[1]))
        p_value = 2 * float(t_cdf(spread.degrees, -abs(after[0] - before[0]) / error))
        yield replace(step, undone=follower.first) if p_value > _SAME else step


def _level(course: Course, breaks: Sequence[int], place: int) -> tuple[float, float]:
    """The mean of the segment that has a release, and the variance factor of that."""
    index = int(np.searchsorted(course.place, place))
    first = max((b for b in breaks if b <= index), default=0)
    last = min((b for b in breaks if b > index), default=len(course.centre))
    weight = course.visits[first:last]
    return float(np.average(course.centre[first:last], weights=weight)), 1 / float(weight.sum())


@dataclass(frozen=True)
class Plateau:
    """Releases between which no step lies, by the first and last place, with their mean level.

    ``low`` and ``high`` are the ends of its 95 % interval, on the scale of the analysis, NaN
    where nothing says how much releases vary.
    """

    first: int
    last: int
    level: float
    low: float
    high: float


def find_plateaus(search: Search) -> list[Plateau]:
    """The stretches of a course between its steps; what creeps is in none."""
    course = search.course
    if not len(course.place):
        return []
    cuts = [(step.last, step.first) for step in search.steps]
    begins = [int(course.place[0]), *(first for _, first in cuts)]
    ends = [*(last for last, _ in cuts), int(course.place[-1])]
    found = []
    for first, last in zip(begins, ends, strict=True):
        rows = (course.place >= first) & (course.place <= last)
        weight = course.visits[rows]
        level, half = float(np.average(course.centre[rows], weights=weight)), math.nan
        if search.spread is not None and search.spread.variance > 0:
            error = math.sqrt(search.spread.variance / float(weight.sum()))
            half = error * float(t_quantile(search.spread.degrees, 0.5 + CONFIDENCE / 2))
        found.append(Plateau(first, last, level, level - half, level + half))
    return found


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
