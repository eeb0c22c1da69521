"""Trends in the readings: drift over the study, and first runs that differ."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, of_arms
from ferocal.analysis.data.arms import Arms
from ferocal.analysis.data.readings import VisitSummaries
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.student import t_cdf

# A trend that is smaller than this share of the margin is not worth a word.
_SHARE_OF_MARGIN = 0.1


def _find_drift(view: View) -> Iterator[Finding]:
    """Series whose visits drift over the study.

    Notes
    -----
    Least squares of visit summaries on the position of the visit in the study, with a
    mean for each configuration; Student's t on the slope with as many degrees of freedom
    as there are visits beyond the configurations and the slope (Draper and Smith 1998,
    Applied Regression Analysis, 3rd edition, chapter 14). All series together share the
    level.
    """
    summaries, size = view.summaries, len(view.readings.series)
    configurations = len(view.readings.configurations)
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
    level = view.level / max(1, int(np.sum(degrees > 0)))
    for s in np.flatnonzero((degrees > 0) & (p_value < level) & view.times_known).tolist():
        change = float(slope[s] * span[s])
        if _matters(view, s, change):
            yield view.on_series(s, by=view.size(s, change), p=float(p_value[s]))


def _positions(summaries: VisitSummaries) -> FloatArray:
    """The place of each visit among those of its series, from 0."""
    order = np.lexsort((summaries.visit_of, summaries.series_of))
    starts = np.searchsorted(summaries.series_of, summaries.series_of)
    place = np.empty(len(order))
    place[order] = np.arange(len(order)) - starts
    return place


@of_arms
def _find_first_runs(view: View, arms: Arms) -> Iterator[Finding]:
    """Series whose first run of a visit differs from the others of the visit.

    Notes
    -----
    Student's t on the differences between the first run and the mean of the rest, over
    all visits with at least two runs; all series together share the level.
    """
    visits = arms.visits
    several = visits.counts > 1
    if not several.any():
        return
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
    level = view.level / max(1, int(np.sum(count > 1)))
    for s in np.flatnonzero((count > 1) & (p_value < level) & view.times_known).tolist():
        if _matters(view, s, mean[s]):
            yield view.on_series(s, by=view.size(s, float(mean[s])), p=float(p_value[s]))


def _centred(values: FloatArray, group: IntArray, size: int) -> FloatArray:
    with np.errstate(divide="ignore", invalid="ignore"):
        means = np.bincount(group, values, size) / np.bincount(group, minlength=size)
    centred: FloatArray = values - means[group]
    return centred


def _matters(view: View, series: int, change: float) -> bool:
    """Whether a change is not tiny beside the margin; without a margin every one matters."""
    margin = margin_on_scale(view.readings.series[series], view.scales[series])
    return not abs(change) <= _SHARE_OF_MARGIN * margin


KINDS = (
    CaveatKind("drift", _find_drift, statistical=True),
    CaveatKind("first-run", _find_first_runs, statistical=True),
)
