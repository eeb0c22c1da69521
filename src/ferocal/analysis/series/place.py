"""The place of a step among releases: how sure it is, and which visit would tell most."""

from __future__ import annotations

import math

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.terms.frozen import dataclass

# From this chance on a place counts as found.
FOUND = 0.96
# Visits to either end before a place is looked for.
VISITS_OF_ENDS = 3
_NODES = 48
# With fewer than this share of the visits of the other side, a side's own level is too uncertain.
_LEAST_SHARE = 0.4
_SURE = 0.999


@dataclass(frozen=True)
class Whereabouts:
    """Where a step lies among releases.

    ``chance`` has the probability that it lies between a release and the next, shape (n − 1,).
    ``change`` is its size, ``sd`` the standard deviation of a visit, both on the scale of the
    analysis; ``before`` and ``after`` count the visits on either side of the best place.
    """

    chance: FloatArray
    change: float
    sd: float
    before: int
    after: int

    @property
    def best(self) -> int:
        """The release after which it most probably lies."""
        return int(self.chance.argmax())

    @property
    def found(self) -> bool:
        """Whether one place has nearly all of the probability."""
        return float(self.chance.max()) >= FOUND

    @property
    def separation(self) -> float:
        """The size of the step over the standard deviation of a visit."""
        return abs(self.change) / self.sd if self.sd else math.inf

    def span(self, level: float = FOUND) -> tuple[int, int]:
        """The first and last place of the shortest set that has so much probability."""
        order = np.argsort(-self.chance, kind="stable")
        enough = int(np.searchsorted(np.cumsum(self.chance[order]), level * (1 - 1e-12))) + 1
        return int(order[:enough].min()), int(order[:enough].max())


def locate(
    place: IntArray, value: FloatArray, releases: int, squares: float = 0.0, degrees: int = 0
) -> Whereabouts | None:
    """The probability of every place of one step, from visits.

    Parameters
    ----------
    place, value
        The release of each visit and what was found, shape (m,).
    releases
        How many releases there are, measured or not.
    squares, degrees
        A sum of squares that also gives the noise between visits, with its degrees of freedom.

    Returns
    -------
    Whereabouts or None
        None where the noise between visits is unknown, or only one release was visited.

    Notes
    -----
    Both levels and the variance are unknown and integrated out: flat priors for the level and
    for the size of the step in units of the standard deviation, and one over that for itself
    (Smith 1975, A Bayesian approach to inference about a change-point in a sequence of random
    variables, Biometrika 62, 407-416). ``sd`` is that around the best place.
    """
    count = len(value)
    freedom = count - 3 + degrees
    if freedom < 1 or len(np.unique(place)) < 2:
        return None
    centred = value - value.mean()
    here = np.bincount(place, minlength=releases).astype(float)
    sums = np.cumsum(np.bincount(place, centred, releases))[:-1]
    left = np.cumsum(here)[:-1]
    right = count - left
    between = np.full(releases - 1, -np.inf)
    both = (left > 0) & (right > 0)
    between[both] = sums[both] ** 2 * (1 / left[both] + 1 / right[both])
    best = int(between.argmax())
    total = float(centred @ centred) + squares
    # Of equal readings no more is known than that they do not differ by more than this.
    rest = np.maximum(total - between[both], 1e-24 * count * max(float(np.max(value**2)), total))
    logs = np.full(releases - 1, -np.inf)
    logs[both] = -0.5 * np.log(left[both] * right[both]) - (count - 1 + degrees) / 2 * np.log(rest)
    chance = np.exp(logs - logs.max())
    change = -sums[best] / right[best] - sums[best] / left[best]
    return Whereabouts(
        chance / chance.sum(),
        float(change),
        math.sqrt(float(rest.min()) / freedom),
        int(left[best]),
        int(right[best]),
    )


def information(known: Whereabouts) -> FloatArray:
    """What one visit to each release can be expected to tell of the place, in nats; shape (n,).

    The mutual information of the outcome and on which side of the step the release is: the
    entropy of a mixture of two normal distributions less that of each (Lindley 1956, On a
    measure of the information provided by an experiment, Annals of Mathematical Statistics 27,
    986-1005).
    """
    after = np.concatenate([[0.0], np.cumsum(known.chance)])
    after = np.clip(after, 0.0, 1.0)
    apart = min(known.separation, 12.0)
    nodes, weights = np.polynomial.hermite_e.hermegauss(_NODES)
    weights = weights / weights.sum()

    def cross(own: FloatArray, shift: float) -> FloatArray:
        """The mean of the logarithm of the mixture over one of its parts, less that of the part."""
        ratio = np.exp(-(apart**2) / 2 - shift * apart * nodes)[None, :]
        mixed = own[:, None] + (1 - own[:, None]) * ratio
        found: FloatArray = np.log(np.maximum(mixed, 1e-300)) @ weights
        return found

    gain = -(after * cross(after, 1.0) + (1 - after) * cross(1 - after, -1.0))
    positive: FloatArray = np.maximum(gain, 0.0)
    return positive


def next_release(known: Whereabouts, cost: FloatArray) -> int | None:
    """The release whose next visit tells most for its cost; None where no visit tells anything.

    ``cost`` has shape (n,), infinite for releases that cannot be measured. With equal costs it
    is the release nearest to the median of the probability, as in the probabilistic bisection
    of Burnashev and Zigangirov (1974; see Waeber, Frazier and Henderson 2013, Bisection search
    with noisy responses, SIAM Journal on Control and Optimization 51, 2261-2279). While one side
    of the step has less than two fifths of the visits of the other, it is a release that is
    surely on that side, for what is between is judged by both levels.
    """
    after = np.concatenate([[0.0], np.cumsum(known.chance)])
    poor = None
    if known.before < _LEAST_SHARE * known.after:
        poor = np.where(after <= 1 - _SURE, cost, np.inf)
    elif known.after < _LEAST_SHARE * known.before:
        poor = np.where(after >= _SURE, cost, np.inf)[::-1]
    if poor is not None and np.isfinite(poor.min()):
        at = int(poor.argmin())
        return at if known.before < known.after else len(poor) - 1 - at
    worth = information(known) / cost
    return int(worth.argmax()) if worth.max() > 0 else None
