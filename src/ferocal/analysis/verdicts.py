"""Verdicts from intervals, a margin and adjusted p-values."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from ferocal.analysis.segments import FloatArray, IntArray

SIGNIFICANCE = 0.05
CONFIDENCE = 0.95


class Verdict(StrEnum):
    """What can be said of an effect."""

    BETTER = "better"
    WORSE = "worse"
    EQUIVALENT = "equivalent"
    INCONCLUSIVE = "inconclusive"


CHANGED = (Verdict.BETTER, Verdict.WORSE)


def adjust_holm(p_values: FloatArray) -> tuple[FloatArray, IntArray]:
    """Holm's step-down adjustment of p-values of one family; NaN stays NaN.

    Parameters
    ----------
    p_values
        Shape (n,). Those that are NaN do not count as members of the family.

    Returns
    -------
    tuple
        Adjusted p-values, and by what each was multiplied at least, shape (n,) each.

    Notes
    -----
    Holm (1979), A simple sequentially rejective multiple test procedure,
    Scandinavian Journal of Statistics 6(2), 65-70.
    """
    adjusted = np.full(len(p_values), np.nan)
    multiplied = np.ones(len(p_values), dtype=np.int64)
    known = np.flatnonzero(~np.isnan(p_values))
    order = known[np.argsort(p_values[known], kind="stable")]
    multipliers = np.arange(len(order), 0, -1)
    adjusted[order] = np.minimum(1.0, np.maximum.accumulate(multipliers * p_values[order]))
    multiplied[order] = multipliers
    return adjusted, multiplied


def decide(
    low: FloatArray,
    high: FloatArray,
    p_adjusted: FloatArray,
    margin: FloatArray,
    higher_is_better: np.ndarray,
) -> list[Verdict]:
    """The verdicts on effects; all arguments have shape (n,).

    ``low``, ``high`` (the 95 % interval) and ``margin`` are on the scale of the
    analysis. A NaN margin means that no equivalence can be shown, a NaN interval that
    nothing can be said.
    """
    with np.errstate(invalid="ignore"):
        equivalent = (-margin < low) & (high < margin)
        changed = ~equivalent & (p_adjusted < SIGNIFICANCE) & ~np.isnan(low)
        rises = low + high > 0
    better = changed & (rises == higher_is_better)
    return [
        Verdict.EQUIVALENT
        if e
        else (Verdict.BETTER if b else Verdict.WORSE)
        if c
        else Verdict.INCONCLUSIVE
        for e, c, b in zip(equivalent.tolist(), changed.tolist(), better.tolist(), strict=True)
    ]


def is_beyond(low: FloatArray, high: FloatArray, margin: FloatArray) -> np.ndarray:
    """Whether the whole interval lies outside the margin, on one side of it; shape (n,)."""
    with np.errstate(invalid="ignore"):
        beyond: np.ndarray = (low > margin) | (high < -margin)
    return beyond
