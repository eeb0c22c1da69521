"""Courses as a level with steps and creeps: which of them describe one best."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.student import t_cdf
from ferocal.analysis.series.course import Course

ShiftKind = Literal["step", "creep"]
# A creep goes over so many releases at least; a shorter one cannot be told from a step.
LEAST_LENGTH = 4
# Of more releases creeps begin and end at some of them only.
_ALL_ENDS, _SOME_ENDS = 40, 41
# What an end of a creep that is not chosen counts as, in parameters.
_KNOWN_END = 0.5
_MOST_SHAPES, _SWEEPS = 16, 4
# How many of what is proposed may settle, and how far from where they are among many releases.
_SETTLED, _NEAR = 2, 12
# What is dropped from a description where it does not hold beside the rest of it.
_HOLDS = 0.01
_TINY = 1e-9


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
        return _creeps(place, np.array([self.begin]), np.array([self.end]))[:, 0]

    def slopes(self, low: int, high: int) -> list[Shape]:
        """The creeps beside a step amid a stretch: to its first release, and from there on."""
        found = []
        if self.before and self.end - low >= LEAST_LENGTH:
            found.append(Shape("creep", low, self.end))
        if self.after and high - self.end >= LEAST_LENGTH:
            found.append(Shape("creep", self.end, high))
        return found


def _creeps(place: FloatArray, begin: IntArray, end: IntArray) -> FloatArray:
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
    ends = list(range(count)) if count <= _ALL_ENDS else some
    creeps = [Shape("creep", i, j) for i, j in itertools.combinations(ends, 2)
              if j - i >= LEAST_LENGTH]  # fmt: skip
    gaps = np.diff(at)
    # Creeps of every length together weigh alike.
    alike = [1 / (count - (c.end - c.begin)) for c in creeps]
    return {
        "step": _family(steps, [s.values(at) for s in steps], gaps[able]),
        "creep": _family(creeps, [c.values(at) for c in creeps], alike),
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
    least = 1 if course.degrees else 2
    return _families(tuple(course.place.tolist()), tuple(course.visits.tolist()), least)


class MoreSteps(NamedTuple):
    """By how much steps reduce what is left, shape (k,), and the weights of their sizes, (k, n).

    A gain of −∞ says that there is no room for one, or for the slopes beside it.
    """

    gain: FloatArray
    weights: FloatArray


class Fit:
    """A course as a level and some shapes, by least squares.

    ``columns`` has the values of the level and of every shape with the slopes beside it, shape
    (n, k), and ``own`` the first column of each shape. ``squares`` is what they leave, with what
    visits to the same release differ by.
    """

    def __init__(self, course: Course, shapes: Sequence[Shape]) -> None:
        self.shapes = tuple(shapes)
        place = course.place.astype(np.float64)
        columns, self.own = [np.ones(len(place))], {}
        for shape in self.shapes:
            self.own[shape] = len(columns)
            columns.append(shape.values(place))
            columns += [s.values(place) for s in shape.slopes(*self.room(shape, len(place)))]
        self._solve(course, np.array(columns).T)

    def _solve(self, course: Course, columns: FloatArray) -> None:
        self.course, self.columns = course, columns
        self._root = np.sqrt(course.visits.astype(np.float64))
        self._basis = _basis(self._root[:, None] * columns)
        value = self._root * course.centre
        self.left = value - self._basis @ (self._basis.T @ value)
        nothing = _TINY**2 * float(value @ value)
        self.squares = max(float(self.left @ self.left) + course.squares, nothing)

    def room(self, shape: Shape, count: int) -> tuple[int, int]:
        """The first and the last release of the stretch in which a step is the only change."""
        low, high = self._rooms(np.array([shape.begin]), [s for s in self.shapes if s != shape])
        return int(low[0]), min(int(high[0]), count - 1)

    def is_amid_creeps(self, shape: Shape) -> bool:
        """Whether it is a step beside which releases creep."""
        around = any(
            s.begin <= shape.begin and shape.end <= s.end for s in self.shapes if s.kind == "creep"
        )
        return shape.kind == "step" and (shape.before or shape.after or around)

    def _rooms(self, begin: IntArray, others: Sequence[Shape]) -> tuple[IntArray, IntArray]:
        ends = np.array([0, *sorted(s.end for s in others)])
        begins = np.array([*sorted(s.begin for s in others), np.iinfo(np.int64).max])
        low = ends[np.searchsorted(ends, begin, side="right") - 1]
        return low, begins[np.searchsorted(begins, begin + 1)]

    def steps(
        self, begin: IntArray, *, before: bool, after: bool, room: tuple[int, int] | None = None
    ) -> MoreSteps:
        """Further steps after some releases, each with the slopes beside it as they are asked for.

        These go over a ``room`` from one release to another, else to the change beside.
        """
        place = self.course.place.astype(np.float64)
        last = len(place) - 1
        low, high = (
            self._rooms(begin, self.shapes)
            if room is None
            else (np.full(len(begin), end) for end in room)
        )
        end, high = begin + 1, np.minimum(high, last)
        able = np.full(len(begin), True)
        columns = []
        if before:
            able &= end - low >= LEAST_LENGTH
            columns.append(_creeps(place, low, end))
        if after:
            able &= high - end >= LEAST_LENGTH
            columns.append(_creeps(place, end, high))
        columns.append((np.arange(len(place))[:, None] > begin).astype(np.float64))
        gain = np.zeros(len(begin))
        apart: list[FloatArray] = []
        for values in columns:
            column = self.beside_values(values)
            for other in apart:
                own = np.maximum(np.sum(other**2, axis=0), _TINY)
                column = column - other * (np.sum(other * column, axis=0) / own)
            own = np.sum(column**2, axis=0)
            able &= own > _TINY
            gain += (self.left @ column) ** 2 / np.maximum(own, _TINY)
            apart.append(column)
        weights = self._root[:, None] * column / np.maximum(own, _TINY)
        return MoreSteps(np.where(able, gain, -np.inf), weights.T)

    @property
    def size(self) -> float:
        """How many parameters there are."""
        return _size(self.shapes, len(self.left) - 1)

    @property
    def seen(self) -> int:
        """How many independent deviations there are in all."""
        return len(self.course.place) + self.course.degrees

    @property
    def degrees(self) -> int:
        """Degrees of freedom of what is left: places were fitted, too."""
        places = sum(1 if shape.kind == "step" else 2 for shape in self.shapes)
        return int(self.seen - self.columns.shape[1] - places)

    @property
    def score(self) -> float:
        """The logarithm of its likelihood, less what its size and its places cost.

        The place of a change counts as two parameters (Zhang and Siegmund 2007, A modified Bayes
        information criterion, Biometrics 63, 22-32), corrected for few releases (McQuarrie 1999, A
        small-sample correction for the Schwarz SIC model selection criterion, Statistics and
        Probability Letters 44, 79-86).
        """
        return self.score_with((), 0.0)

    def score_with(self, more: Sequence[Shape], gain: float) -> float:
        """The score with more shapes, which reduce what is left by ``gain``."""
        shapes = [*self.shapes, *more]
        columns = 1 + sum(1 + shape.before + shape.after for shape in shapes)
        room = self.seen - columns - 2
        squares = max(self.squares - gain, _TINY * self.squares)
        likely = -self.seen / 2 * math.log(squares)
        if room <= 0:
            return -math.inf if len(shapes) > 1 else likely
        size = _size(shapes, len(self.left) - 1) / 2
        return likely - size * math.log(self.seen) * self.seen / room

    def without(self, shape: Shape) -> Fit:
        """The same without one of its shapes."""
        return Fit(self.course, [s for s in self.shapes if s != shape])

    def beside(self, shape: Shape, *, slopes: bool) -> Fit:
        """What describes a course beside a shape; the others stay as they are.

        The slopes beside the shape itself may stay, too.
        """
        first = self.own[shape]
        following = [n for n in self.own.values() if n > first]
        end = first + 1 if slopes else min(following, default=self.columns.shape[1])
        found = Fit.__new__(Fit)
        found.shapes = tuple(s for s in self.shapes if s != shape)
        found.own = {}
        found._solve(self.course, np.delete(self.columns, range(first, end), axis=1))
        return found

    def gains(self, values: FloatArray) -> tuple[FloatArray, FloatArray]:
        """By how much more shapes reduce what is left, and their own squares, shape (k,) each."""
        beside = self.beside_values(values)
        own = np.einsum("ij,ij->j", beside, beside)
        with np.errstate(divide="ignore", invalid="ignore"):
            gain = (beside.T @ self.left) ** 2 / own
        known = own > _TINY * np.maximum(1.0, self.course.visits.sum())
        return np.where(known, gain, -np.inf), np.where(known, own, 1.0)

    def beside_values(self, values: FloatArray) -> FloatArray:
        """More shapes without what those that are there explain, weighted, shape (n, k)."""
        weighted = self._root[:, None] * values
        found: FloatArray = weighted - self._basis @ (self._basis.T @ weighted)
        return found

    def pair_gains(self, values: FloatArray) -> FloatArray:
        """By how much two more shapes together reduce what is left, shape (k, k)."""
        beside = self.beside_values(values)
        inner, along = beside.T @ beside, beside.T @ self.left
        own = np.diag(inner)
        with np.errstate(divide="ignore", invalid="ignore"):
            both = np.add.outer(along**2, np.zeros(len(own))) * own[None, :]
            both = both + both.T - 2 * np.outer(along, along) * inner
            found = both / (np.outer(own, own) - inner**2)
        apart = np.outer(own, own) - inner**2 > _TINY * max(1.0, float(own.max(initial=0)) ** 2)
        return np.where(apart, found, -np.inf)

    def log_likelihood(self, family: Family) -> FloatArray:
        """The logarithms of likelihoods of one more shape each, with their priors, shape (k,).

        The level and the sizes are integrated out over flat priors, the variance over its inverse
        (Zellner 1971, An introduction to Bayesian inference in econometrics, chapters 3 and 10).
        """
        gain, own = self.gains(family.values)
        degrees = self.seen - 1 - self.columns.shape[1]
        left = np.maximum(self.squares - gain, 1e-12 * self.squares)
        logs: FloatArray = family.prior - 0.5 * np.log(own) - degrees / 2 * np.log(left)
        return np.where(np.isfinite(gain), logs, -np.inf)


def _size(shapes: Sequence[Shape], last: int) -> float:
    """How many parameters a level and some shapes have; the place of a change counts as two.

    That of an end of a creep which is an end of the course, or of a slope beside a step, counts
    for less: nothing was chosen.
    """
    steps = [shape for shape in shapes if shape.kind == "step"]
    ends = [e for s in shapes if s.kind == "creep" for e in (s.begin, s.end)]
    slopes = sum(step.before + step.after for step in steps)
    amid = sum(0 < end < last for end in ends)
    known = _KNOWN_END * (len(ends) - amid + slopes)
    return float(1 + len(shapes) + slopes + 2 * (len(steps) + amid) + known)


def _basis(columns: FloatArray) -> FloatArray:
    q, r = np.linalg.qr(columns)
    size = np.abs(r.diagonal())
    found: FloatArray = q[:, size > _TINY * size.max()]
    return found


def describe(course: Course) -> Fit:
    """A course of which it is known that it changes, by the steps and creeps that it shows best.

    One shape, or two steps, comes first. Each further one, or two steps, is added where the score
    grows; after each all others may move, or become of the other kind. In the end each has to hold
    beside the others at a level of 0.01.
    """
    fit = Fit(course, ())
    proposals = _proposals(fit)
    while proposals and len(fit.shapes) < _MOST_SHAPES:
        added = (Fit(course, [*fit.shapes, *more]) for more, _ in proposals[:_SETTLED])
        best = max(map(_settle, added), key=lambda found: found.score)
        if fit.shapes and best.score <= fit.score:
            break
        fit = best
        proposals = _proposals(fit) if fit.seen - len(fit.shapes) > LEAST_LENGTH else []
    return _prune(fit)


def _proposals(fit: Fit, near: int | None = None) -> list[tuple[tuple[Shape, ...], float]]:
    """What may be added, with the score it would have, the best first.

    The best creeps, the best step, alone and with slopes beside it, and, unless only what is
    ``near`` a release is asked for, the best two steps. Only of many releases is near a limit.
    """
    found: list[tuple[tuple[Shape, ...], float]] = []
    steps = families_of(fit.course)["step"]
    found += [((creep,), gain) for creep, gain in _best_creeps(fit)]
    begin = np.array([s.begin for s in steps.made_of], dtype=np.int64)
    if near is not None and len(fit.left) > _ALL_ENDS:
        begin = begin[np.abs(begin - near) <= _NEAR]
    for before, after in itertools.product((False, True), repeat=2):
        gains = fit.steps(begin, before=before, after=after).gain
        if len(gains):
            at = int(begin[gains.argmax()])
            found.append(((Shape("step", at, at + 1, before, after),), float(gains.max())))
    if near is None and len(begin) > 1:
        both = fit.pair_gains(steps.values)
        i, j = np.unravel_index(int(both.argmax()), both.shape)
        found.append(((steps.made_of[i], steps.made_of[j]), float(both[i, j])))
    whole = Shape("creep", 0, len(fit.left) - 1)
    if near is None and not fit.shapes and whole.end >= LEAST_LENGTH and len(begin):
        beside = Fit(fit.course, [whole])
        gains = beside.steps(begin, before=False, after=False).gain
        gain = fit.squares - beside.squares + float(gains.max())
        found.append(((whole, steps.made_of[int(gains.argmax())]), gain))
    scored = [
        (more, fit.score_with(more, gain))
        for more, gain in found
        if math.isfinite(gain) and _is_possible(fit, more)
    ]
    return sorted(scored, key=lambda proposal: -proposal[1])


def _best_creeps(fit: Fit) -> list[tuple[Shape, float]]:
    """The best creep over the whole course, with one end amid it, and with both; and its gain."""
    family = families_of(fit.course)["creep"]
    if not family.made_of:
        return []
    gains, last = fit.gains(family.values)[0], len(fit.left) - 1
    amid = np.array([(s.begin > 0) + (s.end < last) for s in family.made_of])
    best = [np.where(amid == ends, gains, -np.inf) for ends in range(3)]
    return [(family.made_of[int(of.argmax())], float(of.max())) for of in best]


def _is_possible(fit: Fit, more: Iterable[Shape]) -> bool:
    """Whether there are visits enough between all steps."""
    steps = sorted(s.begin for s in (*fit.shapes, *more) if s.kind == "step")
    mass = np.r_[0, np.cumsum(fit.course.visits)]
    least = 1 if fit.course.degrees else 2
    return all(mass[b + 1] - mass[a + 1] >= least for a, b in itertools.pairwise(steps))


def _settle(fit: Fit) -> Fit:
    """The shapes where, and of the kind, they describe the course best beside the others."""
    for _ in range(_SWEEPS):
        before = fit.shapes
        for shape in before:
            rest = fit.without(shape)
            for more, score in _proposals(rest, shape.begin)[:1]:
                if more[0] not in fit.shapes and score > fit.score:
                    moved = Fit(fit.course, [*rest.shapes, *more])
                    fit = moved if moved.score > fit.score else fit
        if fit.shapes == before:
            break
    return fit


def _prune(fit: Fit) -> Fit:
    """Only shapes that hold beside the others, the weakest dropped first; one at least."""
    while len(fit.shapes) > 1:
        degrees = fit.seen - fit.columns.shape[1]
        if degrees < 1:
            return fit
        gains = np.array([fit.beside(s, slopes=True).squares - fit.squares for s in fit.shapes])
        t = np.sqrt(np.maximum(gains, 0.0) / (fit.squares / degrees))
        p_values = 2 * t_cdf(degrees, -t)
        weakest = int(p_values.argmax())
        if p_values[weakest] <= _HOLDS:
            return fit
        fit = fit.without(fit.shapes[weakest])
    return fit


def mean_likelihood(fit: Fit, family: Family) -> float:
    """The logarithm of the mean likelihood of one more shape of a family."""
    if not family.made_of:
        return -math.inf
    return float(np.logaddexp.reduce(fit.log_likelihood(family)))


def weigh_kinds(fit: Fit) -> tuple[Fit, dict[Shape, float]]:
    """A description with the kind of each shape that is likelier, and how likely that is.

    Both kinds are as likely beforehand, and each has the mean likelihood over all its places.
    Where releases creep beside a step it is as much likelier than the best creep instead as their
    scores differ.
    """
    certain: dict[Shape, float] = {}
    for shape in fit.shapes:
        if shape not in fit.shapes:
            continue
        if fit.is_amid_creeps(shape):
            certain[shape] = _against_creep(fit, shape)
            continue
        fit, kept, certain[kept] = _likelier_kind(fit, shape)
    return fit, certain


def creep_instead(fit: Fit, step: Shape) -> Fit | None:
    """The description with the best creep instead of a step and the slopes beside it, if any."""
    rest = fit.without(step)
    others = [Fit(fit.course, [*rest.shapes, creep]) for creep, gain in _best_creeps(rest)
              if math.isfinite(gain)]  # fmt: skip
    return max(others, key=lambda other: other.score, default=None)


def _against_creep(fit: Fit, step: Shape) -> float:
    other = creep_instead(fit, step)
    if other is None:
        return math.nan
    odds = fit.score - other.score
    return 1 / (1 + math.exp(-min(max(odds, -500.0), 500.0)))


def _likelier_kind(fit: Fit, shape: Shape) -> tuple[Fit, Shape, float]:
    """The description with a shape as it is or of the other kind, that shape, and how likely."""
    rest, families = fit.beside(shape, slopes=False), families_of(fit.course)
    known = {kind: mean_likelihood(rest, family) for kind, family in families.items()}
    odds = known["creep"] - known["step"]
    if not math.isfinite(odds):
        return fit, shape, math.nan
    creep = 1 / (1 + math.exp(-min(max(odds, -500.0), 500.0)))
    best: ShiftKind = "creep" if creep > 0.5 else "step"
    likeliest = families[best].made_of[int(rest.log_likelihood(families[best]).argmax())]
    if best == shape.kind == "step":
        likeliest = shape
    if not _is_possible(rest, [likeliest]):
        return fit, shape, min(creep, 1 - creep) if best != shape.kind else max(creep, 1 - creep)
    return Fit(fit.course, [*rest.shapes, likeliest]), likeliest, max(creep, 1 - creep)
