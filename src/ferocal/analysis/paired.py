"""The paired t procedure on differences between visits of one round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtr, stdtrit

from ferocal.analysis.readings import FloatArray


@dataclass(frozen=True)
class PairedResult:
    """Mean difference with its interval, on the scale of the differences.

    ``low``, ``high``, ``sd`` and ``p_value`` are NaN with fewer than two pairs.
    """

    mean: float
    low: float
    high: float
    sd: float
    p_value: float
    pairs: int


def paired_t(differences: FloatArray, *, confidence: float = 0.95) -> PairedResult:
    """Student's t on the differences of R rounds, with R - 1 degrees of freedom.

    Parameters
    ----------
    differences
        Shape (R,): configuration minus baseline, one per round.
    confidence
        Two-sided level of the interval.

    Notes
    -----
    Student (1908), The probable error of a mean, Biometrika 6(1), 1-25. If all
    differences are equal the interval has no width, and p is 0, or 1 at no difference.

    Raises
    ------
    ValueError
        With no differences at all.
    """
    pairs = len(differences)
    if pairs == 0:
        raise ValueError("differences is empty")
    mean = float(np.mean(differences))
    if pairs == 1:
        nan = float("nan")
        return PairedResult(mean, nan, nan, nan, nan, pairs)
    sd = float(np.std(differences, ddof=1))
    return paired_t_from_summary(mean, sd, pairs, confidence=confidence)


def paired_t_from_summary(
    mean: float, sd: float, pairs: int, *, confidence: float = 0.95
) -> PairedResult:
    """`paired_t` from the mean and standard deviation of at least two differences."""
    standard_error = sd / np.sqrt(pairs)
    half_width = float(stdtrit(pairs - 1, 0.5 + confidence / 2) * standard_error)
    if standard_error > 0:
        p_value = float(2 * stdtr(pairs - 1, -abs(mean) / standard_error))
    else:
        p_value = 1.0 if mean == 0 else 0.0
    return PairedResult(mean, mean - half_width, mean + half_width, sd, p_value, pairs)
