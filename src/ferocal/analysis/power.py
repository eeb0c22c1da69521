"""How many rounds a question needs."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.special import chdtri, nctdtr, ndtr, stdtrit

# Beyond this many rounds the answer is "not with this method" rather than a number.
MOST_ROUNDS = 1000
_STRIPS = 200


def power_difference(effect: float, sd: float, rounds: int, *, alpha: float = 0.05) -> float:
    """Power of the two-sided paired t-test.

    ``effect`` and ``sd`` (of the differences between rounds) share a scale.

    Notes
    -----
    Noncentral t; Cohen (1988), Statistical Power Analysis for the Behavioral Sciences,
    2nd edition, chapter 2.
    """
    if rounds < 2:
        return 0.0
    if sd == 0:
        return float(effect != 0)
    critical = stdtrit(rounds - 1, 1 - alpha / 2)
    noncentrality = abs(effect) / sd * np.sqrt(rounds)
    above = 1 - nctdtr(rounds - 1, noncentrality, critical)
    below = nctdtr(rounds - 1, noncentrality, -critical)
    # nctdtr gives NaN where the tail is too small for a double: nothing is lost there.
    return float(np.nan_to_num(above, nan=1.0) + np.nan_to_num(below))


def power_equivalence(
    effect: float, sd: float, rounds: int, margin: float, *, confidence: float = 0.95
) -> float:
    """Probability that the interval comes to lie inside the margin.

    Notes
    -----
    The joint law of mean and standard deviation, the latter integrated over its
    chi-squared distribution (midpoints of equally likely strips); Phillips (1990), Power
    of the two one-sided tests procedure in bioequivalence, Journal of Pharmacokinetics
    and Biopharmaceutics 18(2), 137-144.
    """
    if rounds < 2 or abs(effect) >= margin:
        return 0.0
    if sd == 0:
        return 1.0
    standard_error = sd / np.sqrt(rounds)
    tails = (np.arange(_STRIPS) + 0.5) / _STRIPS
    seen_sd = np.sqrt(chdtri(rounds - 1, tails) / (rounds - 1))
    half_width = stdtrit(rounds - 1, 0.5 + confidence / 2) * seen_sd
    upper = ndtr((margin - effect) / standard_error - half_width)
    lower = ndtr((margin + effect) / standard_error - half_width)
    return float(np.mean(np.maximum(0.0, upper + lower - 1)))


def rounds_to_decide(
    effect: float, sd: float, margin: float, *, alpha: float = 0.05, power: float = 0.8
) -> int | None:
    """Rounds after which a verdict other than inconclusive is expected.

    The smallest number at which the difference or the equivalence is found with
    probability ``power``, if effect and standard deviation are as seen; None when more
    than `MOST_ROUNDS` would be needed. ``alpha`` is the level after adjustment.
    """

    def decided(rounds: int) -> bool:
        different = power_difference(effect, sd, rounds, alpha=alpha)
        return max(different, power_equivalence(effect, sd, rounds, margin)) >= power

    return None if np.isnan(sd) else _first(decided)


def rounds_to_detect(
    effect: float, sd: float, *, alpha: float = 0.05, power: float = 0.8
) -> int | None:
    """The smallest number of rounds at which a true effect is found with this power.

    None when more than `MOST_ROUNDS` would be needed.
    """
    return _first(lambda rounds: power_difference(effect, sd, rounds, alpha=alpha) >= power)


def _first(enough: Callable[[int], bool]) -> int | None:
    """The smallest number of rounds that is enough, if more rounds are never worse."""
    if not enough(MOST_ROUNDS):
        return None
    low, high = 1, MOST_ROUNDS  # not enough at low, enough at high
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high


def best_runs(
    switch_cost: float, run_cost: float, run_variance: float, visit_variance: float
) -> int | None:
    """Runs per visit that give the narrowest interval for the time they take.

    Costs in any one unit of time, variances on any one scale; at least 1. None where
    visits do not vary, so that more runs are always worth more than another visit.

    Notes
    -----
    Optimal allocation in two stages; Cochran (1977), Sampling Techniques, 3rd edition,
    section 10.6.
    """
    if visit_variance <= 0:
        return None
    ratio = switch_cost / run_cost * run_variance / visit_variance
    return max(1, round(float(np.sqrt(ratio))))
