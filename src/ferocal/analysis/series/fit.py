"""Courses by a level and some shapes, with least squares."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.shapes import LEAST_LENGTH, Family, Shape, creeps

# What an end of a creep that is not chosen counts as, in parameters.
_KNOWN_END = 0.5
# Logarithm of how much likelier a step is than a creep beforehand: a change comes with one release,
# and a creep needs four in a row that each change a little.
STEPS_FIRST = math.log(2.5)
_TINY = 1e-9


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
        self.course, self.shapes = course, tuple(shapes)
        place = course.place.astype(np.float64)
        columns, self.own = [np.ones(len(place))], {}
        for shape in self.shapes:
            self.own[shape] = len(columns)
            columns.append(shape.values(place))
            columns += [s.values(place) for s in shape.slopes(*self.room(shape))]
        self._solve(np.array(columns).T)

    def _solve(self, columns: FloatArray) -> None:
        course, self.columns = self.course, columns
        self._root = np.sqrt(course.visits.astype(np.float64))
        self._basis = _basis(self._root[:, None] * columns)
        value = self._root * course.centre
        self.left = value - self._basis @ (self._basis.T @ value)
        nothing = _TINY**2 * float(value @ value)
        self.squares = max(float(self.left @ self.left) + course.squares, nothing)

    def room(self, shape: Shape) -> tuple[int, int]:
        """The first and the last release of the stretch in which a step is the only change."""
        low, high = self._rooms(np.array([shape.begin]), [s for s in self.shapes if s != shape])
        return int(low[0]), int(high[0])

    def is_amid_creeps(self, shape: Shape) -> bool:
        """Whether it is a step beside which releases creep."""
        around = any(
            s.begin <= shape.begin and shape.end <= s.end for s in self.shapes if s.kind == "creep"
        )
        return shape.kind == "step" and (shape.before or shape.after or around)

    def _rooms(self, begin: IntArray, others: Sequence[Shape]) -> tuple[IntArray, IntArray]:
        ends = np.array([0, *sorted(s.end for s in others)])
        begins = np.array([*sorted(s.begin for s in others), len(self.course.place) - 1])
        low = ends[np.searchsorted(ends, begin, side="right") - 1]
        return low, begins[np.searchsorted(begins, begin + 1)]

    def steps(
        self, begin: IntArray, *, before: bool, after: bool, room: tuple[int, int] | None = None
    ) -> MoreSteps:
        """Further steps after some releases, each with the slopes beside it as they are asked for.

        These go over a ``room`` from one release to another, else to the change beside.
        """
        place = self.course.place.astype(np.float64)
        low, high = (
            self._rooms(begin, self.shapes)
            if room is None
            else (np.full(len(begin), end) for end in room)
        )
        end = begin + 1
        able = np.full(len(begin), True)
        columns = []
        if before:
            able &= end - low >= LEAST_LENGTH
            columns.append(creeps(place, low, end))
        if after:
            able &= high - end >= LEAST_LENGTH
            columns.append(creeps(place, end, high))
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
        """The logarithm of its likelihood, less what its size, its places and its creeps cost.

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
        unlikely = STEPS_FIRST * sum(shape.kind == "creep" for shape in shapes)
        return likely - unlikely - size * math.log(self.seen) * self.seen / room

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
        found.course, found.own = self.course, {}
        found.shapes = tuple(s for s in self.shapes if s != shape)
        found._solve(np.delete(self.columns, range(first, end), axis=1))
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

    def weights(self, values: FloatArray) -> FloatArray:
        """With which weights releases make the coefficient of one more shape each, shape (k, n)."""
        beside = self.beside_values(values)
        found: FloatArray = (beside / np.einsum("ij,ij->j", beside, beside)).T * self._root
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
