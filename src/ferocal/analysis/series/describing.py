"""Which steps and creeps describe a course best."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable

import numpy as np

from ferocal.analysis.inference.student import t_cdf
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.fit import STEPS_FIRST, Fit
from ferocal.analysis.series.shapes import (
    ALL_ENDS,
    LEAST_LENGTH,
    Shape,
    ShiftKind,
    families_of,
    least_visits,
)

_MOST_SHAPES, _SWEEPS = 16, 4
# How many of what is proposed may settle, and how far from where they are among many releases.
_SETTLED, _NEAR = 2, 12
# What is dropped from a description where it does not hold beside the rest of it.
_HOLDS = 0.01


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
    if near is not None and len(fit.left) > ALL_ENDS:
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
    least = least_visits(fit.course)
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


def _probability(odds: float) -> float:
    """Of what is as much likelier than something else as a logarithm says."""
    return 1 / (1 + math.exp(-min(max(odds, -500.0), 500.0)))


def weigh_kinds(fit: Fit) -> tuple[Fit, dict[Shape, float]]:
    """A description with the kind of each shape that is likelier, and how likely that is.

    A step is likelier beforehand by `STEPS_FIRST`; each kind has the mean likelihood over all its
    places.
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
    return math.nan if other is None else _probability(fit.score - other.score)


def _likelier_kind(fit: Fit, shape: Shape) -> tuple[Fit, Shape, float]:
    """The description with a shape as it is or of the other kind, that shape, and how likely."""
    rest, families = fit.beside(shape, slopes=False), families_of(fit.course)
    logs = {kind: rest.log_likelihood(of) for kind, of in families.items() if of.made_of}
    mean = {kind: float(np.logaddexp.reduce(each)) for kind, each in logs.items()}
    odds = mean.get("creep", -math.inf) - mean.get("step", -math.inf) - STEPS_FIRST
    if not math.isfinite(odds):
        return fit, shape, math.nan
    creep = _probability(odds)
    best: ShiftKind = "creep" if creep > 0.5 else "step"
    likeliest = families[best].made_of[int(logs[best].argmax())]
    if best == shape.kind == "step":
        likeliest = shape
    if not _is_possible(rest, [likeliest]):
        return fit, shape, min(creep, 1 - creep) if best != shape.kind else max(creep, 1 - creep)
    return Fit(fit.course, [*rest.shapes, likeliest]), likeliest, max(creep, 1 - creep)
