"""Whether releases resemble their neighbours: a slow wander may look like a step."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.series.fit import Fit

_GRID = np.linspace(0.0, 0.95, 39)
# A wander counts where it is not less likely than this beside the steps, as a logarithm.
_AS_LIKELY = 3.0


class Wander(NamedTuple):
    """A course as a wander about one level; ``likeness`` is the correlation of neighbours."""

    score: float
    likeness: float

    def widened(self, weights: FloatArray) -> float:
        """By how much more a sum of releases varies than if they were independent.

        Relative to the variance of one release.
        """
        lags = np.abs(np.subtract.outer(np.arange(len(weights)), np.arange(len(weights))))
        more = self.likeness**lags - np.eye(len(weights))
        return max(0.0, float(weights @ more @ weights))


def wander_instead(fit: Fit) -> Wander | None:
    """A wander that describes a course about as well as its steps and creeps; None where none does.

    A level whose releases are correlated as those of an autoregression of first order are (Box,
    Jenkins and Reinsel 1994, Time series analysis, 3rd edition, chapter 3), by its likelihood and
    the cost of two parameters. Only where nothing but the releases says how much they vary: visits
    that repeat show what is between releases and what is not.
    """
    if fit.course.degrees or fit.seen < 5 or not fit.squares:
        return None
    known = _wander(fit.course.centre)
    score = -fit.seen / 2 * np.log(fit.squares) - fit.size / 2 * np.log(fit.seen)
    alike = known.score + _AS_LIKELY >= score if fit.shapes else _is_correlated(fit.left)
    return known if alike and known.likeness > 0 else None


def _wander(values: FloatArray) -> Wander:
    count = len(values)
    best = Wander(-np.inf, 0.0)
    for rho in _GRID.tolist():
        # Without what each value has of the one before it the rest is independent.
        root = np.sqrt(1 - rho**2)
        own = np.r_[root * values[0], values[1:] - rho * values[:-1]]
        level = np.r_[root, np.full(count - 1, 1 - rho)]
        left = own - level * float(level @ own) / float(level @ level)
        squares = float(left @ left)
        if squares <= 0:
            return best
        score = -count / 2 * np.log(squares) + np.log(root) - np.log(count)
        if score > best.score:
            best = Wander(float(score), rho)
    return best


def _is_correlated(left: FloatArray) -> bool:
    """Whether neighbours differ by less than chance allows, at a level of 0.05.

    The ratio of von Neumann (1941), Distribution of the ratio of the mean square successive
    difference to the variance, Annals of Mathematical Statistics 12, 367-395, with its variance
    of normal noise.
    """
    count, squares = len(left), float(left @ left)
    if squares <= 0:
        return False
    ratio = float(np.sum(np.diff(left) ** 2)) / squares
    error = np.sqrt(4 * (count - 2) / (count**2 - 1.0))
    return bool((2.0 - ratio) / error > 1.645)
