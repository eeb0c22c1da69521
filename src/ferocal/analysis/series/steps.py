"""Steps and creeps of all metrics along the releases, and what releases vary by beside them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.series.chance import can_be_searched, chances_of_none
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.describing import creep_instead, describe, weigh_kinds
from ferocal.analysis.series.fit import Fit
from ferocal.analysis.series.neighbours import wander_instead
from ferocal.analysis.series.shapes import Shape
from ferocal.analysis.series.sizes import FoundShift, size_shapes
from ferocal.terms.frozen import dataclass

# A course changes where chance would do so in fewer than this share of families.
_CHANGES = 0.05
# At this level releases that vary more than visits do so by more than chance.
_MORE = 0.01
# The median of a squared standard normal number, and how much of the degrees of freedom of a
# variance it has when the variance is estimated from neighbours; simulated, a dip of one release
# among twelve is then taken for restless releases in 2 cases of 1000.
_MEDIAN_SQUARE, _MEDIAN_DEGREES, _RESTLESS, _RESTLESS_FROM = 0.4549, 0.25, 0.0002, 8
# A step amid creeps that is nearer to nothing than so many standard errors is none.
_HOLDS = 1.0
# How likely it is that a metric steps elsewhere than others that step about there.
_ELSEWHERE = 0.1
# Where such a noise floor is from.
BETWEEN_RELEASES = "how much releases vary between steps"


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
    """What was found in a course; ``spread`` is None where nothing says how much releases vary.

    ``restless`` says that releases vary by much more than visits to one of them do, ``likeness``
    is the correlation of neighbours of a course that a slow wander describes as well, 0 of others.
    """

    course: Course
    shifts: tuple[FoundShift, ...]
    spread: Spread | None
    searched: bool
    restless: bool = False
    likeness: float = 0.0

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
    """The steps of all courses; the metrics of one role are one family.

    Where releases vary by much more than visits do, every release is a change: it is then looked
    for what stands out from that. What metrics of a role say of the place of a step they have in
    common is taken together; whether there is one is said by each.
    """
    restless = [_is_restless(course) for course in courses]
    sought = [c.by_releases() if r else c for c, r in zip(courses, restless, strict=True)]
    roles = [series[course.series].role for course in courses]
    found: dict[int, _Found] = {}
    for role in dict.fromkeys(roles):
        members = [n for n, own in enumerate(roles) if own == role]
        p_values = chances_of_none([sought[n] for n in members])
        changes = (p_values <= _CHANGES).tolist()
        family = {n: _Found(sought[n], some) for n, some in zip(members, changes, strict=True)}
        _pool_places(list(family.values()))
        found |= family
    return tuple(found[n].search(course, restless[n]) for n, course in enumerate(courses))


class _Found:
    """A course as it is described; what others say of its places may be added."""

    def __init__(self, course: Course, changes: bool) -> None:
        fit, self._certain = Fit(course, ()), dict[Shape, float]()
        if changes:
            fit, self._certain = weigh_kinds(describe(course))
        self.fit, self.shifts = fit, size_shapes(fit, self._certain)
        lost = self._not_held()
        other = None if lost is None else creep_instead(fit, lost)
        if other is not None:
            self.fit, self._certain = weigh_kinds(other)
            self.shifts = size_shapes(self.fit, self._certain)

    def _not_held(self) -> Shape | None:
        """A step amid creeps of which the size may be nothing, whatever is beside it."""
        variance = self.fit.squares / max(1, self.fit.degrees)
        for shift in self.shifts:
            size = float(shift.weights @ self.fit.course.centre)
            square = variance * float(np.sum(shift.weights**2 / self.fit.course.visits))
            least = _HOLDS * math.hypot(math.sqrt(square), shift.doubt)
            if self.fit.is_amid_creeps(shift.shape) and abs(size) < least:
                return shift.shape
        return None

    def pool(self, elsewhere: Mapping[Shape, FloatArray]) -> None:
        """Size the shapes again, with logarithms of what others say of their places."""
        self.shifts = size_shapes(self.fit, self._certain, elsewhere)

    def search(self, course: Course, restless: bool) -> Search:
        """What was found, of the course as it is."""
        fit, shifts = self.fit, self.shifts
        spread = None
        if fit.degrees > 0 and fit.squares > 0:
            spread = Spread(fit.squares / fit.degrees, fit.degrees)
        wander = wander_instead(fit)
        if wander is not None and spread is not None:
            more = [spread.variance * wander.widened(shift.weights) for shift in shifts]
            shifts = tuple(
                replace(shift, doubt=math.hypot(shift.doubt, math.sqrt(m)))
                for shift, m in zip(shifts, more, strict=True)
            )
        searched = can_be_searched(fit.course)
        return Search(
            course, shifts, spread, searched, searched and (restless or _varies_more(fit)),
            0.0 if wander is None or not searched else wander.likeness,
        )  # fmt: skip


def _pool_places(family: Sequence[_Found]) -> None:
    """Let steps that metrics of a family have about the same place say where together."""
    by_place: dict[tuple[int, ...], list[_Found]] = {}
    for found in family:
        by_place.setdefault(tuple(found.fit.course.place.tolist()), []).append(found)
    for place, members in by_place.items():
        elsewhere: dict[int, dict[Shape, FloatArray]] = {}
        for cluster in _clusters(members, len(place) - 1):
            alike = np.array([_mixed(shift.chance) for _, shift in cluster])
            for own, (member, shift) in enumerate(cluster):
                logs = np.delete(alike, own, axis=0).sum(axis=0)
                elsewhere.setdefault(member, {})[shift.shape] = logs - logs.max()
        for member, known in elsewhere.items():
            members[member].pool(known)


def _mixed(chance: FloatArray) -> FloatArray:
    """Logarithms of the probability of places by one metric, if another may step elsewhere."""
    share = np.exp(chance - np.logaddexp.reduce(chance))
    mixed: FloatArray = np.log((1 - _ELSEWHERE) * share + _ELSEWHERE / len(share))
    return mixed


def _clusters(members: Sequence[_Found], places: int) -> Iterator[list[tuple[int, FoundShift]]]:
    """Steps that may be at the same place, most first: of which course, and the step itself."""
    left = [
        (n, shift)
        for n, found in enumerate(members)
        for shift in found.shifts
        if shift.kind == "step"
    ]
    at = {int(p): n for n, p in enumerate(members[0].fit.course.place.tolist())}
    while len(left) > 1:
        count = np.zeros(places)
        for _, shift in left:
            count[at[shift.earliest] : at[shift.latest]] += 1
        best = int(count.argmax())
        if count[best] < 2:
            return
        inside = [at[s.earliest] <= best < at[s.latest] for _, s in left]
        yield [step for step, within in zip(left, inside, strict=True) if within]
        left = [step for step, within in zip(left, inside, strict=True) if not within]


def _is_restless(course: Course) -> bool:
    """Whether neighbours differ by much more than visits to one release do, whatever steps.

    The median of their squared differences beside the variance of visits (Fisher's F), which a few
    steps do not move.
    """
    count = len(course.place)
    short = count < _RESTLESS_FROM or course.degrees < 2
    if course.from_floor or short or not course.squares:
        return False
    visits = course.visits.astype(np.float64)
    factor = 1 / visits[1:] + 1 / visits[:-1]
    ratio = float(np.median(np.diff(course.centre) ** 2 / factor)) / _MEDIAN_SQUARE
    return _chance_of_more(ratio, _MEDIAN_DEGREES * (count - 1), course) < _RESTLESS


def _varies_more(fit: Fit) -> bool:
    """Whether releases differ by more than visits to one of them, beside steps and creeps."""
    course = fit.course
    degrees = fit.degrees - course.degrees
    if course.degrees < 1 or degrees < 1 or not course.squares:
        return False
    return _chance_of_more(float(fit.left @ fit.left) / degrees, degrees, course) < _MORE


def _chance_of_more(between: float, degrees: float, course: Course) -> float:
    from ferocal.analysis.inference.special import fdtrc

    within = course.squares / course.degrees
    return float(fdtrc(degrees, course.degrees, between / within))


def course_of_difference(one: Course, other: Course) -> Course:
    """The first course less the second, of the releases that both have, as if visited once."""
    place, here, there = np.intersect1d(one.place, other.place, return_indices=True)
    centre = one.centre[here] - other.centre[there]
    return replace(one, place=place, centre=centre).by_releases()
