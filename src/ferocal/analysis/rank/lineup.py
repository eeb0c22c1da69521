"""Those who are ranked: their means, errors and common rounds, on the scale of the analysis."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ferocal.analysis.data.readings import (
    NO_ROUND,
    Readings,
    VisitSummaries,
    choose_scales,
    reading_uncertainty,
    summarise_visits,
)
from ferocal.analysis.data.resolution import find_resolution, find_steps
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale, Series, factor_of
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.noise_floors import (
    NoiseFloor,
    SideOfFloor,
    find_own_floor,
    floor_error,
    stated_floor,
)
from ferocal.analysis.inference.weights import Arm


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

    ``turned`` is the centre turned so that more is better. ``table`` has their visits in complete
    rounds, shape (r, k), None where there are none; ``places`` are those among all contestants.
    """

    series: Series
    scale: Scale
    present: tuple[Contestant, ...]
    places: tuple[int, ...]
    centre: FloatArray
    error: FloatArray
    degrees: FloatArray
    fixed: FloatArray
    visits: IntArray
    table: FloatArray | None

    @property
    def sign(self) -> float:
        """What turns values so that more is better."""
        return -1.0 if self.series.better == "lower" else 1.0

    @property
    def turned(self) -> FloatArray:
        """The centres, turned so that more is better; shape (k,)."""
        turned: FloatArray = self.sign * self.centre
        return turned

    @property
    def pooled(self) -> tuple[float, int]:
        """Mean square beside rounds and contestants, and its degrees of freedom."""
        assert self.table is not None
        rounds, count = self.table.shape
        left = self.table - self.table.mean(axis=1, keepdims=True)
        left = left - left.mean(axis=0)
        degrees = (rounds - 1) * (count - 1)
        return float(np.sum(left**2)) / degrees, degrees


def line_up(
    readings: Readings, series: int, contestants: Sequence[Contestant], setting: Setting
) -> Lineup:
    """Those contestants of which a series was read, with their means and what these rest on."""
    numbers = readings.numbers
    own = numbers.select(numbers.series_of == series)
    scales = choose_scales(numbers)
    summaries = summarise_visits(own, scales)
    resolution = find_resolution(own, scales, find_steps(own)) if len(own.value) else None
    width = reading_uncertainty(own, scales)
    rows = {n: _rows(summaries, c) for n, c in enumerate(contestants)}
    places = [n for n in rows if len(rows[n])]
    floors: dict[int, NoiseFloor | None] = {}
    columns = []
    for n in places:
        c, values = contestants[n], summaries.centre[rows[n]]
        # Looked for only where a single visit needs it, for that takes long.
        if len(values) == 1 and c.bench not in floors:
            floors[c.bench] = _floor(numbers, series, c.bench, scales, setting)
        centre = float(values.mean())
        value = factor_of(centre) if scales[series] == "ratio" else centre
        floor = floors.get(c.bench) or stated_floor(readings.series[series], scales[series], value)
        error, degrees = _error(values, summaries.runs[rows[n]], floor)
        code = Arm(series, c.bench, c.configuration).code(readings)
        step = 0.0 if resolution is None else float(resolution.error[code])
        fixed = math.hypot(step, float(width[code]))
        columns.append((centre + c.offset, error, degrees, fixed, len(values)))
    table = np.array(columns).reshape(len(places), 5)
    return Lineup(
        readings.series[series],
        scales[series],
        tuple(contestants[n] for n in places),
        tuple(places),
        table[:, 0],
        table[:, 1],
        table[:, 2],
        table[:, 3],
        table[:, 4].astype(np.int64),
        _in_rounds(summaries, [(contestants[n], rows[n]) for n in places], setting),
    )


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


def _rows(summaries: VisitSummaries, c: Contestant) -> IntArray:
    here = (summaries.bench_of == c.bench) & (summaries.configuration_of == c.configuration)
    return np.flatnonzero(here)


def _floor(
    readings: Readings, series: int, bench: int, scales: tuple[Scale, ...], setting: Setting
) -> NoiseFloor | None:
    key = (readings.benches[bench], readings.series[series])
    own = find_own_floor(readings, series, bench, scales, setting.floor_arm)
    return own or setting.noise_floors.get(key)


def _error(values: FloatArray, runs: IntArray, floor: NoiseFloor | None) -> tuple[float, float]:
    """Standard error of the mean of visits and its degrees of freedom; NaN where unknown."""
    if len(values) > 1:
        return float(np.std(values, ddof=1)) / math.sqrt(len(values)), len(values) - 1.0
    if floor is None:
        return math.nan, math.nan
    return floor_error([SideOfFloor(floor, 1.0, len(values), float(runs.mean()))])


def _in_rounds(
    summaries: VisitSummaries, cells: Sequence[tuple[Contestant, IntArray]], setting: Setting
) -> FloatArray | None:
    """Visits in rounds that have all contestants, if these are most; None otherwise."""
    one_bench = len({c.bench for c, _ in cells}) == 1
    if not setting.interleaved or not one_bench or len(cells) < 2:
        return None
    by_round = [
        dict(zip(summaries.round_of[rows].tolist(), summaries.centre[rows].tolist(), strict=True))
        for _, rows in cells
    ]
    if any(NO_ROUND in rounds for rounds in by_round):
        return None
    common = sorted(set.intersection(*(set(rounds) for rounds in by_round)))
    visits = sum(len(rounds) for rounds in by_round)
    if len(common) < 2 or 2 * len(common) * len(cells) < visits:
        return None
    return np.array(
        [[r[n] + c.offset for r, (c, _) in zip(by_round, cells, strict=True)] for n in common]
    )
