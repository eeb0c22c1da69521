"""Verdicts from intervals, a margin and adjusted p-values."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from ferocal.analysis.data.segments import FloatArray

SIGNIFICANCE = 0.05
CONFIDENCE = 0.95


class Verdict(StrEnum):
    """What can be said of an effect."""

    BETTER = "better"
    WORSE = "worse"
    EQUIVALENT = "equivalent"
    INCONCLUSIVE = "inconclusive"
    # No interval, since the noise between visits is unknown: a description, not a verdict.
    SEEN_ONCE = "seen once"
    # Neither direction is better.
    NOT_JUDGED = "not judged"
    # Something forbids the comparison: another workload, a wrong unit, other resources.
    NOT_COMPARABLE = "not comparable"


CHANGED = (Verdict.BETTER, Verdict.WORSE)


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
