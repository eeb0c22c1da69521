"""Where what two configurations do crosses, over the size of a problem or the time it takes."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np

from ferocal.analysis.data.readings import Readings, choose_scales, summarise_visits
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import factor_of
from ferocal.analysis.inference.effects import Estimate
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Crossing:
    """The size at which two configurations are alike, between two sizes that were measured.

    ``size`` is by a straight line over the logarithm of the size; ``low`` and ``high`` are the
    ends of its 95 % interval, held to ``below`` and ``above``, the sizes beside it.
    ``better_above`` says that the configuration is better at larger sizes. Lengths of time (s) are
    sizes, too.
    """

    size: float
    low: float
    high: float
    below: float
    above: float
    better_above: bool


def find_crossing(
    readings: Readings,
    bench: int,
    pair: tuple[int, int],
    series: Sequence[int],
    *,
    interleaved: bool,
) -> Crossing | None:
    """Where a configuration and the baseline cross; None where they are not shown to.

    The sizes beside it are the nearest two that follow each other at which the change is shown to
    be on different sides of nothing (95 % each). The interval is that of Fieller (1954, Some
    problems in interval estimation, Journal of the Royal Statistical Society B 16, 175-185).
    """
    table = _changes(readings, bench, pair, series, interleaved=interleaved)
    if table is None:
        return None
    sizes = [readings.series[n].size or math.nan for n in series]
    better = readings.series[series[0]].better
    count = len(table)
    mean, error = table.mean(axis=0), table.std(axis=0, ddof=1) / math.sqrt(count)
    reach = float(t_quantile(count - 1.0, 0.5 + CONFIDENCE / 2))
    shown = np.where(np.abs(mean) > reach * error, np.sign(mean), 0.0)
    known = np.flatnonzero(shown)
    for a, b in itertools.pairwise(known.tolist()):
        if shown[a] != shown[b]:
            place = _fieller(table[:, a], table[:, b], reach)
            ends = (math.log(sizes[a]), math.log(sizes[b]))
            size, low, high = (factor_of(ends[0] + (ends[1] - ends[0]) * p) for p in place)
            return Crossing(
                size, low, high, sizes[a], sizes[b], bool((shown[b] > 0) == (better == "higher"))
            )
    return None


def cross_in_time(
    estimates: Sequence[Estimate], lengths: FloatArray, better: str
) -> Crossing | None:
    """Where the change over time passes nothing; None where it is not shown to be on both sides.

    ``estimates`` are those of sessions of ascending ``lengths`` (s). Of several crossings it is the
    last. The interval has the lengths at which no change is shown: Fieller's (1954), read off.
    """
    low, mean, high = (
        np.array([getattr(e.shift, name) for e in estimates]) for name in ("low", "mean", "high")
    )
    shown = np.where(low > 0, 1, np.where(high < 0, -1, 0))
    known = np.flatnonzero(shown)
    turns = np.flatnonzero(np.diff(shown[known]))
    if not len(turns):
        return None
    a, b = int(known[turns[-1]]), int(known[turns[-1] + 1])
    rises, between = bool(shown[b] > 0), slice(a, b + 1)
    ends = [
        _passes_nothing(lengths[between], (c if rises else -c)[between]) for c in (low, mean, high)
    ]
    above = rises == (better != "lower")
    return Crossing(ends[1], min(ends), max(ends), float(lengths[a]), float(lengths[b]), above)


def _passes_nothing(lengths: FloatArray, rising: FloatArray) -> float:
    """Where values that are negative first and positive last pass zero for good."""
    n = int(np.flatnonzero(rising <= 0)[-1])
    share = rising[n] / (rising[n] - rising[n + 1])
    return float(lengths[n] + share * (lengths[n + 1] - lengths[n]))


def _changes(
    readings: Readings,
    bench: int,
    pair: tuple[int, int],
    series: Sequence[int],
    *,
    interleaved: bool,
) -> FloatArray | None:
    """The change by round (rows) and size (columns); None below two whole rounds."""
    if not interleaved:
        return None
    summaries = summarise_visits(readings.numbers, choose_scales(readings))
    values: dict[int, dict[tuple[int, int], float]] = {}
    for s, b, c, r, centre in zip(
        summaries.series_of.tolist(), summaries.bench_of.tolist(),
        summaries.configuration_of.tolist(), summaries.round_of.tolist(),
        summaries.centre.tolist(), strict=True,
    ):  # fmt: skip
        if b == bench and c in pair and s in series and r >= 0:
            values.setdefault(r, {})[s, c] = centre
    rows = [
        [cells[s, pair[0]] - cells[s, pair[1]] for s in series]
        for cells in values.values()
        if len(cells) == 2 * len(series)
    ]
    return np.array(rows) if len(rows) > 1 else None


def _fieller(first: FloatArray, second: FloatArray, reach: float) -> tuple[float, float, float]:
    """Where a line from one change to the other is nothing, as a share of the way; interval."""
    count = len(first)
    fall = first - second
    a, b = float(first.mean()), float(fall.mean())
    (va, cov), (_, vb) = np.cov(first, fall) / count
    square = reach**2
    quadratic = (b**2 - square * vb, -2 * (a * b - square * cov), a**2 - square * va)
    root = math.sqrt(max(0.0, quadratic[1] ** 2 - 4 * quadratic[0] * quadratic[2]))
    ends = [(-quadratic[1] + sign * root) / (2 * quadratic[0]) for sign in (-1, 1)]
    low, high = (min(1.0, max(0.0, end)) for end in sorted(ends))
    return a / b, low, high
