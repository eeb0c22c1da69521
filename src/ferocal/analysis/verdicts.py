"""Verdicts from intervals, a margin and adjusted p-values."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from ferocal.analysis.readings import FloatArray

SIGNIFICANCE = 0.05
CONFIDENCE = 0.95


class Verdict(StrEnum):
    """What can be said of an effect."""

    BETTER = "better"
    WORSE = "worse"
    EQUIVALENT = "equivalent"
    INCONCLUSIVE = "inconclusive"


def adjust_holm(p_values: FloatArray) -> FloatArray:
    """Holm's step-down adjustment of p-values of one family; NaN stays NaN.

    Parameters
    ----------
    p_values
        Shape (n,). Those that are NaN do not count as members of the family.

    Notes
    -----
    Holm (1979), A simple sequentially rejective multiple test procedure,
    Scandinavian Journal of Statistics 6(2), 65-70.
    """
    adjusted = np.full(len(p_values), np.nan)
    known = np.flatnonzero(~np.isnan(p_values))
    order = known[np.argsort(p_values[known], kind="stable")]
    multipliers = np.arange(len(order), 0, -1)
    adjusted[order] = np.minimum(1.0, np.maximum.accumulate(multipliers * p_values[order]))
    return adjusted


def decide(
    low: float, high: float, p_adjusted: float, margin: float, *, higher_is_better: bool
) -> Verdict:
    """The verdict on one effect.

    ``low``, ``high`` (the 95 % interval) and ``margin`` are on the scale of the
    analysis; a NaN margin means that no equivalence can be shown.
    """
    if np.isnan(low) or np.isnan(high):
        return Verdict.INCONCLUSIVE
    if -margin < low and high < margin:
        return Verdict.EQUIVALENT
    if p_adjusted < SIGNIFICANCE:
        rises = low + high > 0
        return Verdict.BETTER if rises == higher_is_better else Verdict.WORSE
    return Verdict.INCONCLUSIVE


def is_beyond(low: float, high: float, margin: float) -> bool:
    """Whether the whole interval lies outside the margin, on one side of it."""
    return bool(low > margin or high < -margin)
