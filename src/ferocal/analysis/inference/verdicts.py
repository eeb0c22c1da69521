"""Verdicts from intervals, a margin and adjusted p-values."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.families import adjust_by_family
from ferocal.analysis.inference.student import Interval, t_interval
from ferocal.terms.frozen import dataclass

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


@dataclass(frozen=True)
class Judgement:
    """What is said of effects, shape (n,) each; ``level`` is that of each test.

    ``p_adjusted`` is on the usual scale, on which a difference is found below `SIGNIFICANCE`;
    ``beyond`` says that the whole interval lies outside the margin, on one side of it.
    """

    interval: Interval
    p_adjusted: FloatArray
    family_size: IntArray
    level: FloatArray
    verdict: list[Verdict]
    beyond: np.ndarray


def judge(
    mean: FloatArray,
    error: FloatArray,
    degrees: FloatArray,
    *,
    margin: FloatArray,
    directions: Sequence[str],
    families: Sequence[str],
    confidence: float = CONFIDENCE,
    counts: np.ndarray | None = None,
    seen_once: np.ndarray | None = None,
    repeats: IntArray | int = 1,
) -> Judgement:
    """The verdicts on effects, the only place where any is made of an interval.

    Parameters
    ----------
    mean, error, degrees
        Shape (n,): effects on the scale of the analysis, their standard errors, and the degrees
        of freedom of these; NaN where nothing is known of the error.
    margin
        On the same scale, shape (n,). NaN means that no equivalence can be shown.
    directions
        Which direction is better: "higher", "lower" or "none".
    families
        With which others a test shares an error rate (Holm 1979).
    confidence
        Of the intervals; tests have the level that is left.
    counts
        Which rows are members of their families, shape (n,); all by default. Those that have no
        direction never are.
    seen_once
        Of which no noise is known, shape (n,); by default those without an interval.
    repeats
        How many tests in a row each is one of, shape (n,) (Bonferroni).
    """
    level = SIGNIFICANCE if confidence == CONFIDENCE else 1 - confidence
    interval = t_interval(mean, error, degrees, confidence=confidence)
    low, high = interval.low, interval.high
    judged = np.array([direction != "none" for direction in directions], dtype=bool)
    members = judged if counts is None else judged & counts
    adjusted, multiplied, size = adjust_by_family(interval.p_value, families, members)
    adjusted = np.minimum(1.0, adjusted * repeats * SIGNIFICANCE / level)
    with np.errstate(invalid="ignore"):
        equivalent = (-margin < low) & (high < margin)
        changed = ~equivalent & (adjusted < SIGNIFICANCE) & ~np.isnan(low)
        beyond = (low > margin) | (high < -margin)
        better = (low + high > 0) == np.array([d == "higher" for d in directions], dtype=bool)
    alone = np.isnan(low) if seen_once is None else seen_once
    verdict = [
        Verdict.NOT_JUDGED
        if direction == "none"
        else Verdict.SEEN_ONCE
        if unknown
        else Verdict.EQUIVALENT
        if same
        else (Verdict.BETTER if good else Verdict.WORSE)
        if differs
        else Verdict.INCONCLUSIVE
        for direction, unknown, same, differs, good in zip(
            directions, alone.tolist(), equivalent.tolist(), changed.tolist(),
            better.tolist(), strict=True,
        )
    ]  # fmt: skip
    return Judgement(interval, adjusted, size, level / multiplied / repeats, verdict, beyond)
