"""Student's t on means whose standard error and degrees of freedom are known."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray

Numbers = np.ndarray | float

# These are imported where they are used: most commands of the program need no distributions.


def t_cdf(degrees: Numbers, t: Numbers) -> FloatArray:
    """The chance of a smaller t; broadcasts."""
    from ferocal.analysis.inference.special import stdtr

    return np.asarray(stdtr(degrees, t), dtype=np.float64)


def t_quantile(degrees: Numbers, chance: Numbers) -> FloatArray:
    """The t below which a share of the distribution lies; broadcasts."""
    from ferocal.analysis.inference.special import stdtrit

    return np.asarray(stdtrit(degrees, chance), dtype=np.float64)


def chi_square_quantile(degrees: Numbers, chance: Numbers) -> FloatArray:
    """The chi-square below which a share of the distribution lies; broadcasts."""
    from ferocal.analysis.inference.special import chdtri

    return np.asarray(chdtri(degrees, 1 - np.asarray(chance)), dtype=np.float64)


class Interval(NamedTuple):
    """Ends of a two-sided interval and the p-value of no difference, each of shape (n,)."""

    low: FloatArray
    high: FloatArray
    p_value: FloatArray


def t_interval(
    mean: FloatArray, error: FloatArray, degrees: FloatArray, *, confidence: float = 0.95
) -> Interval:
    """Intervals and p-values of differences.

    Parameters
    ----------
    mean, error, degrees
        Shape (n,): differences, their standard errors, and the degrees of freedom of
        these. Where an error or its degrees are NaN, so is the result.
    confidence
        Two-sided level of the interval.

    Notes
    -----
    Student (1908), The probable error of a mean, Biometrika 6(1), 1-25. With an error of
    zero the interval has no width, and p is 0, or 1 at no difference.
    """
    half_width = t_quantile(degrees, 0.5 + confidence / 2) * error
    with np.errstate(divide="ignore", invalid="ignore"):
        p_value = 2 * t_cdf(degrees, -np.abs(mean) / error)
    p_value = np.where(error == 0, (mean == 0).astype(float), p_value)
    return Interval(mean - half_width, mean + half_width, p_value)


def error_behind(low: float, high: float, degrees: float, *, confidence: float = 0.95) -> float:
    """The standard error that an interval of `t_interval` was made of."""
    return (high - low) / 2 / float(t_quantile(degrees, 0.5 + confidence / 2))


def combine_errors(
    variance: FloatArray, degrees: FloatArray, base_variance: FloatArray, base_degrees: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Standard error of a difference of two independent means, and its degrees of freedom.

    Parameters
    ----------
    variance, base_variance
        Shape (n,): squared standard errors of the means.
    degrees, base_degrees
        Shape (n,): degrees of freedom of each.

    Notes
    -----
    Welch (1947), The generalization of Student's problem when several different
    population variances are involved, Biometrika 34, 28-35; the degrees of freedom are
    those of Satterthwaite (1946), Biometrics Bulletin 2, 110-114.
    """
    total = variance + base_variance
    with np.errstate(divide="ignore", invalid="ignore"):
        combined = total**2 / (variance**2 / degrees + base_variance**2 / base_degrees)
    # Two arms without any variation: as many degrees as there are.
    combined = np.where(total == 0, degrees + base_degrees, combined)
    return np.sqrt(total), combined
