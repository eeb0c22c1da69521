"""Contrasts: every arm held against the baseline, by the method that its visits allow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from ferocal.analysis.floors import NoiseFloor, floor_error
from ferocal.analysis.readings import NO_ROUND, VisitSummaries
from ferocal.analysis.segments import FloatArray, IntArray
from ferocal.analysis.student import combine_errors


class Method(StrEnum):
    """How the interval of an effect was had."""

    PAIRED = "paired by round"
    VISITS = "between visits"
    FLOOR = "noise floor"
    NONE = "none"


METHODS = tuple(Method)
_PAIRED, _VISITS, _FLOOR, _NONE = range(4)


@dataclass(frozen=True)
class Contrasts:
    """Differences to the baseline on the scale of the analysis; columns of shape (n,).

    ``method`` indexes `METHODS`. ``error`` is the standard error of ``mean``, with
    ``degrees`` of freedom, NaN where unknown. ``sd`` is the standard deviation of the
    difference of one visit and one of the baseline, ``pairs`` the number of rounds that
    pair. ``visits`` and ``runs`` count what the difference is made of, ``base_visits``
    and ``base_runs`` the same of the baseline; ``unpaired`` rounds were left out.
    """

    series_of: IntArray
    configuration_of: IntArray
    method: IntArray
    mean: FloatArray
    error: FloatArray
    degrees: FloatArray
    sd: FloatArray
    pairs: IntArray
    visits: IntArray
    base_visits: IntArray
    runs: IntArray
    base_runs: IntArray
    unpaired: IntArray


@dataclass(frozen=True)
class _Arms:
    """Moments of the visit summaries of every series and configuration, flat (S * C,)."""

    visits: IntArray
    runs: IntArray
    mean: FloatArray
    variance: FloatArray


def contrast(
    summaries: VisitSummaries,
    base: int,
    configurations: int,
    *,
    interleaved: bool,
    floor_of: Callable[[int], NoiseFloor | None],
) -> Contrasts:
    """Hold every arm against the baseline of its series.

    Parameters
    ----------
    summaries
        Visit summaries of all arms.
    base
        The configuration that is the baseline.
    configurations
        How many configurations there are.
    interleaved
        Whether visits of a round were made near each other in time, so that they pair.
    floor_of
        Gives the noise floor of a series; asked only where a side has a single visit.

    Returns
    -------
    Contrasts
        One row for each series and other configuration where both have readings, in
        that order. Where at least two rounds pair, differences are taken within rounds;
        else between the means of all visits, if both sides have at least two (Welch's t);
        else with the noise floor, if there is one.
    """
    arms = _moments(summaries, configurations)
    series, configuration = np.divmod(np.arange(len(arms.visits)), configurations)
    home = series * configurations + base
    rows = np.flatnonzero((configuration != base) & (arms.visits > 0) & (arms.visits[home] > 0))
    home = home[rows]
    paired = _paired(summaries, base, configurations, len(arms.visits), interleaved).take(rows)
    table = Contrasts(
        series_of=series[rows],
        configuration_of=configuration[rows],
        method=np.full(len(rows), _NONE),
        mean=arms.mean[rows] - arms.mean[home],
        error=np.full(len(rows), np.nan),
        degrees=np.full(len(rows), np.nan),
        sd=np.sqrt(arms.variance[rows] + arms.variance[home]),
        pairs=paired.visits,
        visits=arms.visits[rows],
        base_visits=arms.visits[home],
        runs=arms.runs[rows],
        base_runs=arms.runs[home],
        unpaired=np.zeros(len(rows), dtype=np.int64),
    )
    _fill_visits(table, arms.variance[rows], arms.variance[home])
    _fill_paired(table, paired)
    _fill_floors(table, floor_of)
    return table


def _moments(summaries: VisitSummaries, configurations: int) -> _Arms:
    group = summaries.series_of * configurations + summaries.configuration_of
    return _group_moments(
        group, summaries.centre, summaries.runs, len(summaries.scales) * configurations
    )


def _group_moments(group: IntArray, value: FloatArray, runs: IntArray, size: int) -> _Arms:
    """Counts, means and variances by group; NaN where a group has too few."""
    count = np.bincount(group, minlength=size)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.bincount(group, value, size) / count
        squares = np.bincount(group, (value - mean[group]) ** 2, size)
        # Equal values differ from their mean by its rounding, which is no variation.
        squares[np.sqrt(squares) < 1e-12 * np.abs(mean)] = 0.0
        variance = np.where(count > 1, squares / (count - 1.0), np.nan)
    return _Arms(count, np.bincount(group, runs, size).astype(np.int64), mean, variance)


@dataclass(frozen=True)
class _Pairs:
    """Differences within rounds, by arm; ``visits`` counts the rounds that pair."""

    visits: IntArray
    runs: IntArray
    base_runs: IntArray
    mean: FloatArray
    variance: FloatArray

    def take(self, rows: IntArray) -> _Pairs:
        return _Pairs(**{name: column[rows] for name, column in vars(self).items()})


def _paired(
    summaries: VisitSummaries, base: int, configurations: int, size: int, interleaved: bool
) -> _Pairs:
    """Differences to the baseline's visit of the same round, for all arms at once."""
    in_round = summaries.round_of != NO_ROUND if interleaved else np.zeros(0, dtype=bool)
    rounds = int(summaries.round_of.max(initial=0)) + 1
    key = summaries.series_of * rounds + summaries.round_of
    is_base = summaries.configuration_of == base
    home = np.flatnonzero(in_round & is_base) if interleaved else np.zeros(0, dtype=np.int64)
    away = np.flatnonzero(in_round & ~is_base) if interleaved else home
    if not len(home):
        away = home
    # Rows are sorted by series and round within a configuration, and so are their keys.
    place = np.searchsorted(key[home], key[away]) if len(home) else home
    place = np.minimum(place, len(home) - 1)
    matched = key[home][place] == key[away] if len(home) else np.zeros(0, dtype=bool)
    away, partner = away[matched], home[place[matched]]
    group = summaries.series_of[away] * configurations + summaries.configuration_of[away]
    difference = summaries.centre[away] - summaries.centre[partner]
    moments = _group_moments(group, difference, summaries.runs[away], size)
    base_runs = np.bincount(group, summaries.runs[partner], size).astype(np.int64)
    return _Pairs(moments.visits, moments.runs, base_runs, moments.mean, moments.variance)


def _fill_visits(table: Contrasts, variance: FloatArray, base_variance: FloatArray) -> None:
    """Welch's t between the visits of both sides, where each has at least two."""
    enough = (table.visits > 1) & (table.base_visits > 1)
    error, degrees = combine_errors(
        variance / table.visits,
        (table.visits - 1).astype(np.float64),
        base_variance / table.base_visits,
        (table.base_visits - 1).astype(np.float64),
    )
    table.method[enough] = _VISITS
    table.error[enough] = error[enough]
    table.degrees[enough] = degrees[enough]


def _fill_paired(table: Contrasts, paired: _Pairs) -> None:
    """Differences within rounds, where at least one round pairs."""
    some, enough = paired.visits > 0, paired.visits > 1
    table.unpaired[some] = (table.visits + table.base_visits - 2 * paired.visits)[some]
    table.mean[some] = paired.mean[some]
    table.sd[some] = np.sqrt(paired.variance)[some]
    for own, of_pairs in (
        (table.visits, paired.visits),
        (table.base_visits, paired.visits),
        (table.runs, paired.runs),
        (table.base_runs, paired.base_runs),
    ):
        own[some] = of_pairs[some]
    table.method[some] = np.where(enough, _PAIRED, _NONE)[some]
    table.error[some] = np.sqrt(paired.variance / np.maximum(paired.visits, 1))[some]
    table.degrees[some] = np.where(enough, paired.visits - 1.0, np.nan)[some]


def _fill_floors(table: Contrasts, floor_of: Callable[[int], NoiseFloor | None]) -> None:
    """The noise floor, where one side has a single visit."""
    for row in np.flatnonzero(table.method == _NONE):
        floor = floor_of(int(table.series_of[row]))
        if floor is None:
            continue
        visits = int(table.visits[row]), int(table.base_visits[row])
        runs = table.runs[row] / visits[0], table.base_runs[row] / visits[1]
        table.error[row], table.degrees[row] = floor_error(floor, visits, runs)
        table.sd[row] = np.sqrt(2 * floor.variance)
        table.method[row] = _FLOOR


def widen(table: Contrasts, uncertainty: FloatArray) -> None:
    """Add an uncertainty of known size, shape (n,), to the errors of a table, in place.

    The degrees of freedom grow by the formula of Welch and Satterthwaite, in which a known
    uncertainty has infinitely many (JCGM 100:2008, G.4.1).
    """
    squares = table.error**2 + uncertainty**2
    known = ~np.isnan(table.error) & (uncertainty > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        degrees = table.degrees * squares**2 / table.error**4
    table.degrees[known] = np.minimum(degrees[known], 1e6)
    table.error[known] = np.sqrt(squares)[known]
