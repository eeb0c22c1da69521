"""How large the steps and creeps of a course are, over all that may be beside them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.fit import Fit
from ferocal.analysis.series.shapes import Shape, ShiftKind, families_of
from ferocal.terms.frozen import dataclass

# At this level a slope beside a step holds, that is, 0.05 in two tails.
_HOLDS = 0.975
# A step is between the places that have so much of the probability.
_MOST = 0.95
# Places, and creeps, that are less likely than this beside the best are left out.
_UNLIKELY = 1e-4
# What a slope beside a step costs, in logarithms of the number of deviations: less than any other
# parameter, so that the size of a step holds where what is beside it creeps a little.
_SLOPE_COST = 0.25
# By so much of itself is the variance of a size larger for what describes the course having been
# chosen by the same releases; by simulation.
_CHOSEN = 0.4
_TINY = 1e-12


@dataclass(frozen=True)
class FoundShift:
    """A change of a course between two releases, or over several (``kind`` "creep").

    ``last`` is the release before it and ``first`` the one after, ``earliest`` and ``latest``
    those between which it lies with 95 %, all by their place. Its size is the sum of the releases
    of the course with their ``weights``, shape (n,), which are uncertain by ``doubt`` because its
    place is, and because the releases beside it may creep. ``certainty`` is the probability of this
    kind against the other, a step being likelier beforehand, NaN where too few releases were read
    to tell. ``chance`` are the logarithms of the probability of a step after each release of the
    course, shape (n − 1,), and ``shape`` is what it was found as.
    """

    last: int
    first: int
    earliest: int
    latest: int
    weights: FloatArray
    doubt: float
    certainty: float
    chance: FloatArray
    shape: Shape

    @property
    def kind(self) -> ShiftKind:
        """A step or a creep."""
        return self.shape.kind


def size_shapes(
    fit: Fit, certain: Mapping[Shape, float], pooled: Mapping[Shape, FloatArray] | None = None
) -> tuple[FoundShift, ...]:
    """The shifts of a course as they are described, with their sizes.

    ``pooled`` has logarithms of what other courses say of the places of steps, shape (n − 1,).
    """
    degrees = fit.degrees
    variance = fit.squares / degrees if degrees > 0 else 0.0
    elsewhere = pooled or {}
    found = []
    for shape in fit.shapes:
        if shape.kind == "step":
            found.append(_step(fit, shape, certain[shape], variance, elsewhere.get(shape)))
            found += _slopes(fit, shape, variance)
        else:
            found.append(_creep(fit, shape, certain[shape], variance))
    return tuple(sorted(found, key=lambda shift: (shift.first, shift.last)))


def _step(
    fit: Fit, shape: Shape, certainty: float, variance: float, pooled: FloatArray | None
) -> FoundShift:
    course = fit.course
    at, logs, weights = _possible_steps(fit, shape)
    if pooled is not None:
        logs = logs + pooled[at]
    chance = np.exp(logs - np.logaddexp.reduce(logs))
    mean, doubt = _averaged(course, chance, weights, variance)
    by_place = np.bincount(at, chance, len(course.place) - 1).astype(np.float64)
    best = int(by_place.argmax())
    order = np.argsort(-by_place, kind="stable")
    enough = int(np.searchsorted(np.cumsum(by_place[order]), _MOST * (1 - _TINY))) + 1
    span, place = order[:enough], course.place
    with np.errstate(divide="ignore"):
        own = np.log(by_place)
    return FoundShift(
        int(place[best]), int(place[best + 1]), int(place[span.min()]),
        int(place[span.max() + 1]), mean, doubt, certainty, own, shape,
    )  # fmt: skip


def _slopes(fit: Fit, shape: Shape, variance: float) -> Iterator[FoundShift]:
    """The creeps beside a step, before it up to its last release, where they hold."""
    course = fit.course
    place = course.place.astype(np.float64)
    inverse = np.linalg.pinv(np.sqrt(course.visits.astype(np.float64))[:, None] * fit.columns)
    inverse *= np.sqrt(course.visits)
    for n, slope in enumerate(shape.slopes(*fit.room(shape))):
        end = shape.begin if slope.end == shape.end else slope.end
        share = (place[end] - place[slope.begin]) / (place[slope.end] - place[slope.begin])
        weights = share * inverse[fit.own[shape] + 1 + n]
        error = math.sqrt(variance * float(np.sum(weights**2 / course.visits)))
        if abs(float(weights @ course.centre)) < error * float(t_quantile(fit.degrees, _HOLDS)):
            continue
        ends = int(place[slope.begin]), int(place[end])
        nowhere = np.full(len(place) - 1, -np.inf)
        yield FoundShift(*ends, *ends, weights, 0.0, math.nan, nowhere, slope)


def _possible_steps(fit: Fit, shape: Shape) -> tuple[IntArray, FloatArray, FloatArray]:
    """Where a step may be, shape (k,), how likely it is there, and the weights of its size, (k, n).

    At every place between the changes beside it, with a slope before it, one after it, both or
    none. The probabilities are logarithms, of which only the differences count.
    """
    rest = fit.beside(shape, slopes=False)
    low, high = fit.room(shape)
    family = families_of(fit.course)["step"]
    begin = np.array([s.begin for s in family.made_of])
    inside = (begin >= low) & (begin < high)
    logs, weights = [], []
    for before, after in itertools.product((False, True), repeat=2):
        more = rest.steps(begin[inside], before=before, after=after, room=(low, high))
        left = np.maximum(rest.squares - more.gain, _TINY * rest.squares)
        cost = _SLOPE_COST * math.log(rest.seen) * (before + after)
        known = family.prior[inside] - (rest.seen - 1) / 2 * np.log(left) - cost
        logs.append(np.where(np.isfinite(more.gain), known, -np.inf))
        weights.append(more.weights)
    return np.tile(begin[inside], 4), np.concatenate(logs), np.concatenate(weights)


def _averaged(
    course: Course, chance: FloatArray, weights: FloatArray, variance: float
) -> tuple[FloatArray, float]:
    """The mean weights of estimates, shape (k, n), and what their mean is uncertain by beside.

    The mean over estimates varies less than each does: that is in the doubt, too.
    """
    sizes = weights @ course.centre
    mean: FloatArray = chance @ weights
    between = float(chance @ (sizes - chance @ sizes) ** 2)
    factors = np.sum(weights**2 / course.visits, axis=1)
    known = float(np.sum(mean**2 / course.visits))
    hidden = float(chance @ factors) - known + _CHOSEN * known
    return mean, math.sqrt(between + variance * max(0.0, hidden))


def _creep(fit: Fit, shape: Shape, certainty: float, variance: float) -> FoundShift:
    course, rest = fit.course, fit.beside(shape, slopes=True)
    family = families_of(course)["creep"]
    logs = rest.log_likelihood(family)
    kept = np.flatnonzero(logs >= logs.max() + math.log(_UNLIKELY))
    chance = np.exp(logs[kept] - np.logaddexp.reduce(logs[kept]))
    weights = rest.weights(family.values[:, kept])
    mean, doubt = _averaged(course, chance, weights, variance)
    begin, end = (int(course.place[n]) for n in (shape.begin, shape.end))
    nowhere = np.full(len(course.place) - 1, -np.inf)
    return FoundShift(begin, end, begin, end, mean, doubt, certainty, nowhere, shape)
