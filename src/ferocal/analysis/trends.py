"""Trends in the readings: drift over the study, and first runs that differ."""

from __future__ import annotations

import numpy as np

from ferocal.analysis.arms import LEVEL, Arms, Finding
from ferocal.analysis.caveats import Caveat
from ferocal.analysis.readings import VisitSummaries, margin_on_scale
from ferocal.analysis.segments import FloatArray, IntArray
from ferocal.analysis.student import t_cdf

# A trend that is smaller than this share of the margin is not worth a word.
_SHARE_OF_MARGIN = 0.1


def find_drift(arms: Arms, summaries: VisitSummaries) -> list[Finding]:
    """Series whose visits drift over the study.

    Notes
    -----
    Least squares of visit summaries on the position of the visit in the study, with a
    mean for each configuration; Student's t on the slope with as many degrees of freedom
    as there are visits beyond the configurations and the slope (Draper and Smith 1998,
    Applied Regression Analysis, 3rd edition, chapter 14). All series together share the
    level.
    """
    size = len(arms.readings.series)
    configurations = len(arms.readings.configurations)
    arm = summaries.series_of * configurations + summaries.configuration_of
    position = _positions(summaries)
    x, y = (_centred(v, arm, size * configurations) for v in (position, summaries.centre))
    series = summaries.series_of
    sxx, sxy = (np.bincount(series, x * v, size) for v in (x, y))
    used = np.bincount(series[np.unique(arm, return_index=True)[1]], minlength=size)
    degrees = np.bincount(series, minlength=size) - used - 1
    with np.errstate(divide="ignore", invalid="ignore"):
        slope = sxy / sxx
        squares = np.bincount(series, (y - slope[series] * x) ** 2, size)
        error = np.sqrt(squares / degrees / sxx)
        p_value = 2 * t_cdf(degrees, -np.abs(slope) / error)
    span = np.full(size, -np.inf)
    np.maximum.at(span, series, position)
    return [
        Finding(int(s), None, Caveat("drift", _moved(arms, int(s), slope[s] * span[s], p_value[s])))
        for s in np.flatnonzero((degrees > 0) & (p_value < LEVEL / _tested(degrees > 0)))
        if _matters(arms, int(s), slope[s] * span[s])
    ]


def _positions(summaries: VisitSummaries) -> FloatArray:
    """The place of each visit among those of its series, from 0."""
    order = np.lexsort((summaries.visit_of, summaries.series_of))
    starts = np.searchsorted(summaries.series_of, summaries.series_of)
    place = np.empty(len(order))
    place[order] = np.arange(len(order)) - starts
    return place


def _moved(arms: Arms, series: int, change: float, p_value: float) -> str:
    return (
        f"scores drift by {arms.sized(series, change)} from the first visit to the last "
        f"(p = {p_value:.1g})"
    )


def find_first_runs(arms: Arms) -> list[Finding]:
    """Series whose first run of a visit differs from the others of the visit.

    Notes
    -----
    Student's t on the differences between the first run and the mean of the rest, over
    all visits with at least two runs; all series together share the level.
    """
    visits = arms.visits
    several = visits.counts > 1
    if not several.any():
        return []
    first = arms.scaled[visits.starts]
    with np.errstate(divide="ignore", invalid="ignore"):
        rest = (visits.total(arms.scaled) - first) / (visits.counts - 1)
    series = arms.readings.series_of[visits.starts][several]
    gap = (first - rest)[several]
    size = len(arms.readings.series)
    count = np.bincount(series, minlength=size)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.bincount(series, gap, size) / count
        squares = np.bincount(series, (gap - mean[series]) ** 2, size)
        error = np.sqrt(squares / (count - 1) / count)
        p_value = 2 * t_cdf(count - 1, -np.abs(mean) / error)
    found = []
    for s in np.flatnonzero((count > 1) & (p_value < LEVEL / _tested(count > 1))).tolist():
        if _matters(arms, s, mean[s]):
            text = f"the first run of a visit differs by {arms.sized(s, mean[s])} from the rest "
            found.append(Finding(s, None, Caveat("first-run", f"{text}(p = {p_value[s]:.1g})")))
    return found


def _centred(values: FloatArray, group: IntArray, size: int) -> FloatArray:
    with np.errstate(divide="ignore", invalid="ignore"):
        means = np.bincount(group, values, size) / np.bincount(group, minlength=size)
    centred: FloatArray = values - means[group]
    return centred


def _tested(mask: np.ndarray) -> int:
    return max(1, int(np.sum(mask)))


def _matters(arms: Arms, series: int, change: float) -> bool:
    """Whether a change is not tiny beside the margin; without a margin every one matters."""
    margin = margin_on_scale(arms.readings.series[series], arms.scales[series])
    return not abs(change) <= _SHARE_OF_MARGIN * margin
