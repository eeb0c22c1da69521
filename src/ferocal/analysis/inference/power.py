"""How many rounds a question needs."""

from __future__ import annotations

import functools
from collections.abc import Callable

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.student import t_quantile

# Beyond this many rounds the answer is "not with this method" rather than a number.
MOST_ROUNDS = 100
_STRIPS = 60


def power_difference(
    effect: FloatArray | float,
    sd: FloatArray | float,
    rounds: IntArray | int,
    *,
    alpha: FloatArray | float = 0.05,
) -> FloatArray:
    """Power of the two-sided paired t-test; numbers, or columns of shape (n,).

    ``effect`` and ``sd`` (of the differences between rounds) share a scale; 0 below two
    rounds.

    Notes
    -----
    Noncentral t; Cohen (1988), Statistical Power Analysis for the Behavioral Sciences,
    2nd edition, chapter 2.
    """
    from ferocal.analysis.inference.special import nctdtr

    degrees = np.maximum(np.asarray(rounds) - 1.0, 1.0)
    critical = t_quantile(degrees, 1 - np.asarray(alpha) / 2)
    with np.errstate(divide="ignore", invalid="ignore"):
        noncentrality = np.abs(effect) / sd * np.sqrt(rounds)
    above = 1 - nctdtr(degrees, noncentrality, critical)
    below = nctdtr(degrees, noncentrality, -critical)
    # nctdtr gives NaN where the tail is too small for a double: nothing is lost there.
    power = np.nan_to_num(np.asarray(above), nan=1.0) + np.nan_to_num(np.asarray(below))
    power = np.where(np.asarray(sd) == 0, np.asarray(effect) != 0, power)
    return np.where(np.asarray(rounds) < 2, 0.0, power)


def power_equivalence(
    effect: FloatArray | float,
    sd: FloatArray | float,
    rounds: IntArray | int,
    margin: FloatArray | float,
    *,
    confidence: float = 0.95,
) -> FloatArray:
    """Probability that the interval will lie inside the margin, shape (n,).

    Arguments are numbers or columns. Zero where the margin is NaN or the effect reaches it.

    Notes
    -----
    The joint law of mean and standard deviation, the latter integrated over its
    chi-squared distribution (midpoints of equally likely strips); Phillips (1990), Power
    of the two one-sided tests procedure in bioequivalence, Journal of Pharmacokinetics
    and Biopharmaceutics 18(2), 137-144.
    """
    from ferocal.analysis.inference.special import ndtr

    effect, sd, margin = (np.atleast_1d(value) for value in (effect, sd, margin))
    effect, sd, margin, rounds = np.broadcast_arrays(effect, sd, margin, rounds)
    inside = (np.abs(effect) < margin) & (rounds >= 2)
    standard_error = np.where(sd > 0, sd, 1.0) / np.sqrt(rounds)
    counts, place = np.unique(np.maximum(rounds, 2), return_inverse=True)
    widths = np.stack([_half_widths(int(n), confidence) for n in counts])[place]
    with np.errstate(invalid="ignore"):
        upper = ndtr(((margin - effect) / standard_error)[:, None] - widths)
        lower = ndtr(((margin + effect) / standard_error)[:, None] - widths)
    power = np.mean(np.maximum(0.0, upper + lower - 1), axis=1)
    return np.where(inside, np.where(sd == 0, 1.0, power), 0.0)


@functools.cache
def _half_widths(rounds: int, confidence: float) -> FloatArray:
    """Equally likely half widths of the interval, in true standard errors."""
    from ferocal.analysis.inference.special import chdtri

    tails = (np.arange(_STRIPS) + 0.5) / _STRIPS
    seen_sd = np.sqrt(chdtri(rounds - 1, tails) / (rounds - 1))
    widths: FloatArray = t_quantile(rounds - 1, 0.5 + confidence / 2) * seen_sd
    return widths


def rounds_to_decide(
    effect: FloatArray,
    sd: FloatArray,
    margin: FloatArray,
    *,
    alpha: FloatArray,
    fixed: FloatArray | float = 0.0,
    power: float = 0.8,
) -> IntArray:
    """Rounds after which a verdict other than inconclusive is expected, shape (n,).

    The smallest number at which the difference or the equivalence is found with
    probability ``power``, if effect and standard deviation are as seen; 0 when more than
    `MOST_ROUNDS` would be needed, or the standard deviation is unknown (NaN).
    ``alpha`` is the level after adjustment, ``fixed`` an uncertainty that does not shrink with
    the number of rounds.
    """
    known = ~np.isnan(sd)

    def decided(rounds: IntArray) -> np.ndarray:
        whole = np.sqrt(sd**2 + rounds * np.square(fixed))
        different = power_difference(effect, whole, rounds, alpha=alpha)
        equivalent = power_equivalence(effect, whole, rounds, margin)
        return known & (np.maximum(different, equivalent) >= power)

    return _first(decided, len(effect))


def rounds_to_detect(
    effect: float, sd: float, *, alpha: float = 0.05, power: float = 0.8, fixed: float = 0.0
) -> int | None:
    """The smallest number of rounds at which a true effect is found with this power.

    None when more than `MOST_ROUNDS` would be needed. ``fixed`` is an uncertainty that does
    not shrink with their number.
    """

    def enough(rounds: IntArray) -> np.ndarray:
        whole = np.sqrt(sd**2 + rounds * fixed**2)
        return power_difference(np.array([effect]), whole, rounds, alpha=alpha) >= power

    return int(_first(enough, 1)[0]) or None


def _first(enough: Callable[[IntArray], np.ndarray], size: int) -> IntArray:
    """The smallest number of rounds that is enough, if more are never worse; 0 for none."""
    low = np.ones(size, dtype=np.int64)  # not enough at low, enough at high
    high = np.full(size, MOST_ROUNDS)
    possible = enough(high)
    while np.any(high - low > 1):
        middle = (low + high) // 2
        fits = enough(middle)
        low, high = np.where(fits, low, middle), np.where(fits, middle, high)
    return np.where(possible, high, 0)


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
