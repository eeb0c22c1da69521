"""The spread of readings within an arm: outliers, and two modes."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, of_arms
from ferocal.analysis.data.arms import Arms
from ferocal.analysis.data.readings import MEDIAN_FROM_RUNS, NO_ROUND, round_number
from ferocal.analysis.data.segments import FloatArray, IntArray, Segments, find_segments
from ferocal.analysis.data.series import factor_of
from ferocal.analysis.inference.student import t_quantile
from ferocal.terms.numbers import significant

# With fewer readings an arm says nothing of its spread.
_FEWEST_READINGS = 8
_FEWEST_FOR_MODES = 12
# The median of absolute differences of normal readings, in standard deviations.
_MEDIAN_DIFFERENCE = 0.9539
# Modes nearer than so many steps of the readings are none.
_FEWEST_STEPS = 2.0
# Uniform readings have three quarters of their variance between two halves.
_LEAST_SHARE = 0.85


@of_arms
def _find_outliers(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms with readings far from their fellows.

    Notes
    -----
    Distances are from the median of the visit (of the arm, where visits have fewer than
    three runs); the scale is the median absolute difference of successive readings, which
    withstands a quarter of outliers. The bound on the largest distance is a quantile of
    Student's t with 0.37 degrees of freedom per difference, the efficiency of that scale
    (Rousseeuw and Croux 1993, Journal of the American Statistical Association 88,
    1273-1283), widened to hold for 9 to 150 readings in simulation: of 100,000 normal
    arms each, at most the nominal share was found. All arms together share the level.
    """
    counts = arms.arms.counts
    scale, steps = _scales(arms)
    tested = (counts >= _FEWEST_READINGS) & (steps > 3) & (scale > 0)
    level = view.level / max(1, int(tested.sum()))
    quantile = t_quantile(0.37 * steps + 1.5, 1 - level / counts / 2)
    bound = np.where(tested, 1.08 * quantile * scale, np.inf)
    distance = arms.scaled - _centres(arms)
    far = np.abs(distance) > bound[arms.arms.label]
    for arm in np.unique(arms.arms.label[far]).tolist():
        rows = arms.rows(arm)
        yield view.on_arm(arms, arm, **_far(view, arm, distance[rows], far[rows]))


def _centres(arms: Arms) -> FloatArray:
    """For every reading the median of its visit, or of its arm where visits are short."""
    return np.where(
        (arms.visits.counts >= MEDIAN_FROM_RUNS)[arms.visits.label],
        arms.visits.median(arms.scaled)[arms.visits.label],
        arms.arms.median_of_sorted(arms.ascending)[arms.arms.label],
    )


def _scales(arms: Arms) -> tuple[FloatArray, IntArray]:
    """By arm, the scale from steps between successive readings, and how many steps."""
    step = np.r_[np.nan, np.abs(np.diff(arms.scaled))]
    step[arms.arms.starts] = np.nan
    step[arms.visits.starts[arms.visits.counts >= MEDIAN_FROM_RUNS]] = np.nan
    known = ~np.isnan(step)
    scale, steps = np.zeros(len(arms.arms.counts)), np.zeros(len(arms.arms.counts), np.int64)
    owner = arms.arms.label[known]
    if len(owner):
        groups = find_segments([owner])
        scale[owner[groups.starts]] = groups.median(step[known]) / _MEDIAN_DIFFERENCE
        steps[owner[groups.starts]] = groups.counts
    return scale, steps


def _far(view: View, arm: int, distance: FloatArray, far: np.ndarray) -> dict[str, Any]:
    arms, worst = view.sharp, int(np.argmax(np.abs(distance)))
    number = int(round_number(arms.round_of[arms.rows(arm)])[worst])
    return {
        "count": int(far.sum()),
        "readings": len(far),
        "worst": view.size(int(arms.series_of[arm]), float(distance[worst])),
        "round": None if number == NO_ROUND else number,
    }


@of_arms
def _find_two_modes(view: View, arms: Arms) -> Iterator[Finding]:
    """Arms whose readings fall into two groups, each with a fifth of them at least.

    Notes
    -----
    The share of the variance between the groups of the best split in two (Fisher 1958, On
    grouping for maximum homogeneity, Journal of the American Statistical Association 53,
    789-798). Of normal readings it is 2/π in large samples. The bound adds 1.15/√n, which
    1 in 2,000 arms of 12 to 50 normal readings with equal variation of runs and visits
    exceeds in simulation (40,000 arms each), and more where many arms are looked at.
    """
    counts = arms.arms.counts
    tested = counts >= _FEWEST_FOR_MODES
    if not tested.any():
        return
    ascending = arms.ascending
    widened = 1.15 + 0.08 * math.log10(tested.sum())
    bound = np.maximum(_LEAST_SHARE, 2 / math.pi + widened / np.sqrt(counts))
    share, size = _best_splits(arms.arms, ascending)
    for arm in np.flatnonzero(tested & (share > bound)).tolist():
        readings = ascending[arms.rows(arm)]
        lower = int(size[arm])
        low, high = float(readings[:lower].mean()), float(readings[lower:].mean())
        if arms.scales[arms.series_of[arm]] == "ratio":
            low, high = factor_of(low), factor_of(high)
        step = float(view.steps[arms.series_of[arm]])
        names = [significant(centre) for centre in (low, high)]
        # Rounding makes two groups of any readings that spread over a step or two.
        if high - low < _FEWEST_STEPS * step or names[0] == names[1]:
            continue
        yield view.on_arm(
            arms, arm, lower=lower, readings=len(readings), low=low, high=high,
            unit=arms.series(arm).unit,
        )  # fmt: skip


def _best_splits(arms: Segments, ascending: FloatArray) -> tuple[FloatArray, IntArray]:
    """By arm, the share of variance between two groups, and the size of the lower one."""
    count = arms.counts[arms.label]
    size = np.arange(len(ascending)) - arms.starts[arms.label] + 1
    deviation = ascending - arms.mean(ascending)[arms.label]
    # Deviations of an arm add up to zero, so that sums begin anew with every arm.
    sums = np.cumsum(deviation)
    fewest = np.maximum(3, np.ceil(0.2 * count))
    inside = (size >= fewest) & (size <= count - fewest)
    with np.errstate(divide="ignore", invalid="ignore"):
        between = np.where(inside, sums**2 * count / (size * (count - size)), 0.0)
        best = np.maximum.reduceat(between, arms.starts)
        share = np.nan_to_num(best / arms.total(deviation**2))
    at_best = np.flatnonzero(between == best[arms.label])
    first = at_best[np.searchsorted(arms.label[at_best], np.arange(len(arms.starts)))]
    return share, size[first]


KINDS = (
    CaveatKind("outliers", _find_outliers, statistical=True),
    CaveatKind("two-modes", _find_two_modes, statistical=True),
)
