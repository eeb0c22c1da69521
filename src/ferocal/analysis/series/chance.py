"""Whether courses change at all: what chance alone would do to them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.stretches import contrasts_of, largest_of

_DRAWS = 1999
# With so many times as many draws as a family has members, the least p-value of one is small
# enough after its adjustment.
_FINE_ENOUGH = 80
# Fewer degrees of freedom say too little of how much releases vary.
_LEAST_DEGREES = 3
# Of more releases sums of stretches are quicker taken one by one than by a product of matrices.
_SUMMED = 150
# Statistics are computed in single precision: what differs by less is equal.
_ROUNDING = 1e-5
# Fewer visits have too few orders, and with fewer than the second number for steps only.
_PERMUTED_FROM, _STRETCHES_FROM = 8, 9
# Of more than so many nothing is simulated: their orders are enough.
_SIMULATED_TO = 24
_TINY = 1e-300
# Two ways of which either is enough have this share of false alarms more than one.
_EITHER = 1.3
# So much more in families of which the courses have orders for steps only: what is rare among few
# signs is not known well.
_FEW_ORDERS = 8.0

Null = Literal["places", "signs", "local", "shapes"]
_NULLS: tuple[Null, ...] = ("places", "signs", "local", "shapes")


def can_be_searched(course: Course) -> bool:
    """Whether there are enough releases, or enough visits, to look for changes."""
    count = len(course.place)
    return count >= 2 and count - 2 + course.degrees >= _LEAST_DEGREES


def chances_of_none(courses: Sequence[Course]) -> FloatArray:
    """The p-values of no change in each of some courses that are one family, shape (c,).

    The statistic of a course is the largest sum of squares between some of its releases and the
    others: those after a place, beside a trend or not, a stretch amid the others (Olshen,
    Venkatraman, Lucito and Wigler 2004, Circular binary segmentation, Biostatistics 5, 557-572),
    or a creep. A course changes where that is beyond each of two nulls. Where visits change places,
    their distribution may be any, but all have the same (Pitman 1937, Significance tests which may
    be applied to samples from any population, Journal of the Royal Statistical Society Supplement
    4, 119-130); visits of a round change places with each other only. Where deviations from the
    mean change signs, each may vary as it likes, but up as often as down (Wu 1986, Jackknife,
    bootstrap and other resampling methods in regression analysis, Annals of Statistics 14,
    1261-1295); normal noise that varies as visits do from those beside them says the same, and is
    not widened by the changes themselves (as in von Neumann 1941, Annals of Mathematical
    Statistics 12, 367-395): either of both is enough. Few visits have too few orders to show that a
    change is far beyond chance: of these it is enough, too, that the ratio of the statistic to what
    is left is beyond that of simulated noise of several shapes, the least favourable one. Where no
    visit was repeated but a noise floor is known, it is held against normal noise of that size
    instead.

    Courses of the same releases share their draws, and how small the least p-value of several is
    by chance is known from these (Westfall and Young 1993, Resampling-based multiple testing,
    algorithm 2.8): metrics that change together weaken each other less.
    """
    found = np.ones(len(courses))
    searched = [n for n, course in enumerate(courses) if can_be_searched(course)]
    tests = [_Test(courses[n], n) for n in searched]
    places, signs, local, shapes = (_adjusted(tests, null) for null in _NULLS)
    few = np.array([len(tests) > 1 and test.looks_for_steps_only for test in tests], dtype=bool)
    share = _EITHER * np.where(few, _FEW_ORDERS, 1.0)
    unequal = np.minimum(1.0, share * np.minimum(signs, local))
    by_orders = np.maximum(places, unequal)
    found[searched] = np.minimum(by_orders, np.minimum(1.0, _EITHER * shapes))
    return found


def _adjusted(tests: Sequence[_Test], null: Null) -> FloatArray:
    """The p-values by a null, adjusted for their number, shape (k,); 1 where it is not used."""
    found = np.ones(len(tests))
    used = [n for n, test in enumerate(tests) if test.uses(null)]
    if not used:
        return found
    draws = max(_DRAWS, _FINE_ENOUGH * len(used))
    drawn = [np.r_[tests[n].seen(null), tests[n].draw(null, draws)] for n in used]
    p_values = np.column_stack([_upper_shares(values) for values in drawn])
    by_size = np.argsort(p_values[0], kind="stable")
    least = np.minimum.accumulate(p_values[:, by_size[::-1]], axis=1)[:, ::-1]
    adjusted = np.maximum.accumulate(np.mean(least <= p_values[0, by_size], axis=0))
    found[np.array(used)[by_size]] = adjusted
    return found


def _upper_shares(values: FloatArray) -> FloatArray:
    """For each of some values the share of them that are as large."""
    below = np.searchsorted(np.sort(values), values * (1 - _ROUNDING))
    shares: FloatArray = (len(values) - below) / len(values)
    return shares


class _Test:
    """The statistic of a course, as seen and as it is drawn under a null."""

    def __init__(self, course: Course, number: int) -> None:
        self._course, self._number = course, number
        order = np.argsort(course.visit_place, kind="stable")
        self._block = tuple(course.visit_block[order].tolist())
        visits = course.visit_centre[order]
        self._value = visits - visits.mean()
        self._counts = tuple(course.visits.tolist())
        self._contrasts = contrasts_of(self._counts, 1)
        self.looks_for_steps_only = len(visits) < _STRETCHES_FROM and not course.from_floor
        if self.looks_for_steps_only:
            self._contrasts = self._contrasts[:, : len(self._counts) - 1]

    def uses(self, null: Null) -> bool:
        """Whether the course is held against a null."""
        visits, floor = len(self._value), self._course.from_floor
        if null == "shapes":
            return not floor and visits <= _SIMULATED_TO
        return floor or visits >= _PERMUTED_FROM

    def seen(self, null: Null) -> float:
        """The statistic as it is, for shapes its ratio to what is left."""
        if null != "shapes":
            return float(np.abs(self._value @ self._contrasts).max())
        return float(_ratio_to_rest(self._value[None, :], self._counts)[0])

    def draw(self, null: Null, draws: int) -> FloatArray:
        """Draws under a null, shape (d,)."""
        if null == "shapes":
            return self._least_favourable(draws)
        blocks = range(-(-draws // _DRAWS))
        return np.concatenate([self._draw(null, block) for block in blocks])

    def _draw(self, null: Null, block: int) -> FloatArray:
        count = len(self._value)
        if self._course.from_floor:
            degrees = self._course.degrees
            chance = np.random.default_rng([count, degrees, block, self._number])
            ratio = self._course.squares / chance.chisquare(degrees, _DRAWS)
            return self._largest(chance.normal(size=(_DRAWS, count))) * np.sqrt(ratio)
        if null == "places":
            return self._largest(self._value[_orders(self._block, block)])
        if null == "local":
            return self._largest(_normal(count, block) * self._local_scale())
        # Deviations from the mean are smaller than those from the level, more so where the mean is
        # that of a few noisy ones: simulated with half of the releases five times as noisy.
        lost = min(max((count - 4) / 8, 1.0), 2.0)
        return self._largest(_signs(count, block) * self._value * np.sqrt(count / (count - lost)))

    def _local_scale(self) -> FloatArray:
        """How much each visit varies, by how far it is from those beside it; shape (m,)."""
        squares = np.diff(self._value) ** 2 / 2
        scale: FloatArray = np.sqrt((np.r_[squares[0], squares] + np.r_[squares, squares[-1]]) / 2)
        return scale

    def _largest(self, values: FloatArray) -> FloatArray:
        # Halved or doubled until they are near 1, they fit into a short number and lose nothing.
        exponent = int(np.frexp(np.abs(values).max())[1])
        scaled = np.ldexp(values, -exponent).astype(np.float32)
        if len(self._counts) > _SUMMED:
            largest = largest_of(scaled, self._counts)
        else:
            sums = scaled @ self._contrasts
            largest = np.maximum(sums.max(axis=1), -sums.min(axis=1))
        whole: FloatArray = np.ldexp(largest.astype(np.float64), exponent)
        return whole

    def _least_favourable(self, draws: int) -> FloatArray:
        """Draws of that shape of noise under which the course is least unlikely.

        Each course has its own order of them: courses do not vary alike.
        """
        tables = _ratios(self._counts, self._block, draws)
        seen = self.seen("shapes") * (1 - _ROUNDING)
        beyond = [int(np.sum(table >= seen)) for table in tables]
        chance = np.random.default_rng([draws, self._number])
        return chance.permutation(tables[int(np.argmax(beyond))])


def _ratio_to_rest(centred: FloatArray, visits: tuple[int, ...]) -> FloatArray:
    """The ratio of the largest sum of squares to what is left, of visits, shape (d, m): (d,).

    A single visit on one side is none: one that differs from all others may have gone wrong.
    """
    between: FloatArray = np.max((centred @ contrasts_of(visits, 2)) ** 2, axis=1)
    whole = np.sum(centred**2, axis=1)
    ratio: FloatArray = between / np.maximum(whole - between, _ROUNDING * whole + _TINY)
    return ratio


@lru_cache(maxsize=32)
def _orders(block: tuple[int, ...], number: int) -> IntArray:
    """Orders of visits in which places are changed within blocks only, shape (d, m)."""
    of, count = np.array(block), len(block)
    keys = np.random.default_rng([count, number]).random((_DRAWS, count))
    # Sorted by block first, visits of a block are next to each other in any order.
    orders = np.empty(keys.shape, np.int64)
    orders[:, np.argsort(of, kind="stable")] = np.argsort(of + keys, axis=1)
    return orders


@lru_cache(maxsize=32)
def _signs(count: int, number: int) -> FloatArray:
    """Signs of so many deviations, shape (d, m)."""
    chance = np.random.default_rng([count, number, 2])
    signs: FloatArray = chance.choice(np.array([-1.0, 1.0]), (_DRAWS, count))
    return signs


@lru_cache(maxsize=32)
def _normal(count: int, number: int) -> FloatArray:
    """Normal numbers for so many visits, shape (d, m)."""
    normal: FloatArray = np.random.default_rng([count, number, 3]).normal(size=(_DRAWS, count))
    return normal


@lru_cache(maxsize=16)
def _ratios(visits: tuple[int, ...], block: tuple[int, ...], draws: int) -> tuple[FloatArray, ...]:
    """The ratio to what is left of shapes of noise, shape (d,) each.

    Normal, with tails as heavy as those of Student's t with 3 degrees of freedom, as skewed as a
    lognormal with a standard deviation of 1 of its logarithm, and five times as wide in the
    second or the first half.
    """
    count = sum(visits)
    chance = np.random.default_rng([*visits])
    half = np.repeat(np.arange(len(visits)) >= len(visits) / 2, visits)
    normal = chance.normal(size=(5, draws, count))
    noises = (
        normal[0], chance.standard_t(3, (draws, count)), np.exp(normal[1]),
        normal[2] * np.where(half, 5.0, 1.0), normal[3] * np.where(half, 1.0, 5.0),
    )  # fmt: skip
    in_block = np.equal.outer(np.array(block), np.array(block))
    of_block = in_block / in_block.sum(axis=0)
    return tuple(_ratio_to_rest(noise - noise @ of_block, visits) for noise in noises)
