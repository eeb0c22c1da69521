"""What a ranking depends on: how far weights can move before another leads."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ferocal.analysis.data.readings import Readings, summarise_visits
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.frozen import dataclass

# A lead that changes hands only where a part weighs less than this, or all but this, is firm.
_LEAST_SHARE = 0.005


@dataclass(frozen=True)
class Tipping:
    """A weight at which the lead changes hands.

    ``share`` is the share of the weight of ``name`` among all from which on ``leader`` leads,
    ``above`` whether that is where it weighs more; ``now`` is its share as it is.
    """

    name: str
    now: float
    share: float
    above: bool
    leader: int


@dataclass(frozen=True)
class Without:
    """The order of the contestants, the best first, without one part of a composite."""

    name: str
    order: tuple[int, ...]


def find_tippings(
    values: FloatArray, weights: Mapping[str, Sequence[tuple[int, float]]]
) -> list[Tipping]:
    """How far the weight of each part can move before another contestant leads.

    Parameters
    ----------
    values
        Shape (k, m): contestants by metrics, as logarithms turned so that more is better.
    weights
        By the name of a part its metrics, as columns of ``values`` with their weights.

    Notes
    -----
    The other parts keep their proportions, so that the index of every contestant is a straight
    line over the share of a part, and the lead changes where two lines cross.
    """
    total = sum(weight for part in weights.values() for _, weight in part)
    index = _index(values, [pair for part in weights.values() for pair in part])
    leader = int(index.argmax())
    found = []
    for name, part in weights.items():
        others = [pair for other, pairs in weights.items() if other != name for pair in pairs]
        now = sum(weight for _, weight in part) / total
        if not others or not part or not sum(weight for _, weight in others):
            continue
        own, rest = _index(values, part), _index(values, others)
        for above in (True, False):
            share, other = _crossing(own, rest, leader, now, above=above)
            if other is not None:
                found.append(Tipping(name, now, share, above, other))
    return sorted(found, key=lambda tipping: abs(tipping.share - tipping.now))


def _index(values: FloatArray, pairs: Sequence[tuple[int, float]]) -> FloatArray:
    columns = [n for n, _ in pairs]
    weights = np.array([weight for _, weight in pairs])
    index: FloatArray = values[:, columns] @ weights / max(float(weights.sum()), 1e-300)
    return index


def _crossing(
    own: FloatArray, rest: FloatArray, leader: int, now: float, *, above: bool
) -> tuple[float, int | None]:
    """The nearest share on one side of that of now at which a different one is level."""
    best, other = math.inf, None
    slopes = (own - rest) - (own - rest)[leader]
    ahead = rest - rest[leader]
    for n in range(len(own)):
        if n == leader or slopes[n] == 0:
            continue
        share = -ahead[n] / slopes[n]
        inside = now < share <= 1 - _LEAST_SHARE if above else _LEAST_SHARE <= share < now
        if inside and abs(share - now) < best:
            best, other = abs(share - now), n
    return (now + best if above else now - best), other


def orders_without(
    values: FloatArray, weights: Mapping[str, Sequence[tuple[int, float]]]
) -> list[Without]:
    """The order of the contestants without each part in turn."""
    found = []
    for name in weights:
        others = [pair for other, pairs in weights.items() if other != name for pair in pairs]
        if others and sum(weight for _, weight in others):
            order = np.argsort(-_index(values, others), kind="stable")
            found.append(Without(name, tuple(int(n) for n in order)))
    return found


def turned_means(
    readings: Readings,
    scales: tuple[Scale, ...],
    series: Sequence[int],
    cells: Sequence[tuple[int, int]],
    offsets: np.ndarray,
) -> np.ndarray:
    """Means of visits, turned so that more is better, with ``offsets``; shape (k, m) each."""
    summaries = summarise_visits(readings.numbers, scales)
    visits = np.bincount(summaries.arm_of, minlength=readings.arm_count)
    total = np.bincount(summaries.arm_of, summaries.centre, readings.arm_count)
    mean = np.where(visits > 0, total / np.maximum(visits, 1), np.nan)
    arms = np.array([[Arm(n, b, c).code(readings) for n in series] for b, c in cells], dtype=int)
    sign = np.array([-1.0 if readings.series[n].better == "lower" else 1.0 for n in series])
    found: np.ndarray = sign * mean[arms] + offsets
    return found
