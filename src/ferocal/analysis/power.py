"""How many rounds a question needs."""

from __future__ import annotations

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

    if np.isnan(sd) or not decided(MOST_ROUNDS):
        return None
    low, high = 1, MOST_ROUNDS  # not decided at low, decided at high
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if decided(middle) else (middle, high)
    return high
