"""Those who are ranked: their levels, and how sure these are, on the scale of the analysis."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ferocal.analysis.data.readings import NO_ROUND, Readings, VisitSummaries, summarise_visits
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.two_way import TwoWay
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Contestant:
    """Who takes part: a configuration on a bench, and what its values are divided by.

    ``offset`` is added on the scale of the analysis, which takes account of a price or another
    quantity that is known exactly.
    """

    bench: int
    configuration: int
    offset: float = 0.0


@dataclass(frozen=True)
class Lineup:
    """Those that were read: columns of shape (k,), on the scale of the analysis.

    ``level`` is the mean of visits, cleared of rounds where these connect all of them. ``squares``
    and ``degrees`` are what is left of the visits of each then, to estimate by how much they vary.
    ``places`` are those among all contestants.
    """

    series: Series
    scale: Scale
    present: tuple[Contestant, ...]
    places: tuple[int, ...]
    level: FloatArray
    visits: IntArray
    squares: FloatArray
    degrees: FloatArray

    @property
    def sign(self) -> float:
        """What turns values so that more is better."""
        return -1.0 if self.series.better == "lower" else 1.0


def line_up(
    readings: Readings,
    series: int,
    contestants: Sequence[Contestant],
    setting: Setting,
    scales: tuple[Scale, ...],
) -> Lineup:
    """Those contestants of which a series was read; bounds are in no level."""
    summaries = summarise_visits(readings.numbers, scales)
    arms = [Arm(series, c.bench, c.configuration).code(readings) for c in contestants]
    present = set(summaries.arm_of[summaries.series_of == series].tolist())
    places = [n for n, arm in enumerate(arms) if arm in present]
    columns = np.zeros((4, len(places)))
    for bench in {contestants[n].bench for n in places}:
        own = [k for k, n in enumerate(places) if contestants[n].bench == bench]
        columns[:, own] = _levels(
            summaries, (series, bench), [arms[places[k]] for k in own], setting
        )
    columns[0] += [contestants[n].offset for n in places]
    return Lineup(
        readings.series[series],
        scales[series],
        tuple(contestants[n] for n in places),
        tuple(places),
        columns[0],
        columns[1].astype(np.int64),
        columns[2],
        columns[3],
    )


def _levels(
    summaries: VisitSummaries, of: tuple[int, int], arms: Sequence[int], setting: Setting
) -> FloatArray:
    """Level, visits, and squares and degrees of what is left, of arms; shape (4, a).

    They are ``of`` one series on one bench.
    """
    rows = np.flatnonzero((summaries.series_of == of[0]) & (summaries.bench_of == of[1]))
    value = summaries.centre[rows]
    codes, arm = np.unique(summaries.arm_of[rows], return_inverse=True)
    visits = np.bincount(arm)
    level: FloatArray = np.bincount(arm, value) / visits
    left: FloatArray = value - level[arm]
    degrees: FloatArray = np.asarray(visits - 1.0, dtype=np.float64)
    rounds = summaries.round_of[rows]
    if setting.interleaved and (rounds != NO_ROUND).all():
        model = TwoWay(arm, np.unique(rounds, return_inverse=True)[1])
        if model.is_connected:
            level, left = model.levels(value), model.left_over(value)
            degrees -= np.bincount(arm, model.leverage) - 1.0
    table = np.stack([level, visits, np.bincount(arm, left**2), degrees])
    chosen: FloatArray = table[:, np.searchsorted(codes, arms)]
    return chosen


def some_are_bounds(readings: Readings, series: int, contestants: Sequence[Contestant]) -> bool:
    """Whether of some contestant no more is known than a bound, so that it has no rank."""
    here = readings.series_of == series
    read, numbers = (
        set(readings.cell_of[here & rows].tolist())
        for rows in (np.full(len(here), True), readings.bound == 0)
    )
    width = len(readings.configurations)
    wanted = {c.bench * width + c.configuration for c in contestants}
    return bool((read - numbers) & wanted)
