"""From readings to judged contrasts, over all of them at once."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import (
    Readings,
    choose_scales,
    margin_on_scale,
    reading_uncertainty,
    summarise_visits,
)
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.components import pool_sd
from ferocal.analysis.inference.contrasts import (
    METHODS,
    ContrastTable,
    Method,
    estimate_contrasts,
    uncertainty_of,
    widen,
)
from ferocal.analysis.inference.effects import Estimate, Setting, Shift
from ferocal.analysis.inference.families import adjust_by_family
from ferocal.analysis.inference.looks import LookPlan
from ferocal.analysis.inference.noise_floors import NoiseFloor, estimate_floor
from ferocal.analysis.inference.power import rounds_to_decide
from ferocal.analysis.inference.student import Interval, t_interval
from ferocal.analysis.inference.verdicts import (
    CONFIDENCE,
    SIGNIFICANCE,
    Verdict,
    decide,
    is_beyond,
)
from ferocal.analysis.inference.weights import Arm, Contrast


def judge_contrasts(
    readings: Readings, contrasts: Sequence[Contrast], setting: Setting
) -> dict[int, Estimate]:
    """Estimate and judge contrasts; by their place, those of which all arms have readings.

    `estimate_contrasts` says which interval a contrast has. Its margin and direction
    are those of the series by which it is named, and all of its series share a scale.
    p-values are adjusted within the families that the contrasts name. In a study that was
    measured until decided, intervals have the level of a look, and a verdict stands from the
    look at which it was reached.

    Raises
    ------
    ValueError
        When the series of a contrast are on different scales.
    """
    if not len(readings.value):
        return {}
    return _Analysis(readings, contrasts, setting).estimates()


@dataclass(frozen=True)
class _Judgement:
    """Verdicts of the rows of a table of contrasts; ``level`` is that of each test."""

    p_adjusted: FloatArray
    level: FloatArray
    verdict: list[Verdict]
    beyond: np.ndarray


# Stands for a number of further rounds that no study can have.
_OUT_OF_REACH = -1


class _Row(NamedTuple):
    """A contrast as it was estimated and judged, in plain numbers."""

    contrast: int
    method: int
    mean: float
    low: float
    high: float
    p_value: float
    sd: float
    degrees: float
    p_adjusted: float
    beyond: bool
    pairs: int
    visits: int
    base_visits: int
    runs: int
    base_runs: int
    unpaired: int
    needed: int
    verdict: Verdict


def _rows(
    table: ContrastTable, interval: Interval, judged: _Judgement, needed: IntArray
) -> Iterator[_Row]:
    columns = (
        table.contrast_of, table.method, table.mean, interval.low, interval.high,
        interval.p_value, table.sd, table.degrees, judged.p_adjusted, judged.beyond, table.pairs,
        table.visits, table.base_visits, table.runs, table.base_runs, table.unpaired, needed,
    )  # fmt: skip
    # Whole columns are turned into plain numbers faster than one number after the other.
    lists = (column.tolist() for column in columns)
    return map(_Row._make, zip(*lists, judged.verdict, strict=True))


class _Analysis:
    """The steps from readings to judged contrasts."""

    def __init__(self, readings: Readings, contrasts: Sequence[Contrast], setting: Setting) -> None:
        self.readings = readings
        self.contrasts = contrasts
        self.setting = setting
        self.scales = choose_scales(readings)
        named = np.array([contrast.first.series for contrast in contrasts], dtype=np.int64)
        margins = [
            margin_on_scale(series, scale)
            for series, scale in zip(readings.series, self.scales, strict=True)
        ]
        self.margin = np.array(margins)[named]
        self.higher = np.array([s.better == "higher" for s in readings.series])[named]
        self._floors: dict[tuple[int, int], NoiseFloor | None] = {}
        self._check_scales()

    def _check_scales(self) -> None:
        for contrast in self.contrasts:
            if len({self.scales[arm.series] for arm, _ in contrast.weights}) > 1:
                names = [self.readings.series[arm.series].metric for arm, _ in contrast.weights]
                raise ValueError(f"{', '.join(names)} are on different scales: no contrast of them")

    def estimates(self) -> dict[int, Estimate]:
        looks = self.setting.looks
        table = self._contrast(self.readings)
        interval = t_interval(
            table.mean,
            table.error,
            table.degrees,
            confidence=looks.confidence if looks else CONFIDENCE,
        )
        judgement = (
            self._judge(table, interval, SIGNIFICANCE)
            if looks is None
            else self._judge_by_looks(table, looks)
        )
        needed = self._more_rounds(table, judgement)
        rows = _rows(table, interval, judgement, needed)
        return {row.contrast: self._estimate(row) for row in rows}

    def _contrast(self, readings: Readings) -> ContrastTable:
        table = estimate_contrasts(
            summarise_visits(readings, self.scales),
            readings,
            self.contrasts,
            interleaved=self.setting.interleaved,
            floor_of=self._floor_of,
        )
        if readings.width.any():
            uncertainty = reading_uncertainty(readings, self.scales)
            widen(table, uncertainty_of(self.contrasts, uncertainty, readings)[table.contrast_of])
        return table

    def _floor_of(self, series: int, bench: int) -> NoiseFloor | None:
        """The noise floor of a series: of the study's own visits, else one brought in."""
        if (series, bench) not in self._floors:
            readings, setting = self.readings, self.setting
            key = (readings.benches[bench], readings.series[series])
            floor = setting.noise_floors.get(key)
            if floor is not None and floor.scale != self.scales[series]:
                floor = None
            if setting.floor_arm is not None:
                arm = Arm(series, bench, readings.configurations.index(setting.floor_arm))
                floor = estimate_floor(readings, arm, self.scales) or floor
            self._floors[series, bench] = floor
        return self._floors[series, bench]

    def _judge(
        self,
        table: ContrastTable,
        interval: Interval,
        significance: float,
        pending: np.ndarray | None = None,
    ) -> _Judgement:
        """Verdicts, adjusted within families; only ``pending`` rows are members of these."""
        families = [self.contrasts[n].family for n in table.contrast_of.tolist()]
        counts = np.ones(len(families), dtype=bool) if pending is None else pending
        adjusted, multiplied = adjust_by_family(interval.p_value, families, counts)
        # On the usual scale, on which a difference is found below 0.05.
        adjusted = np.minimum(1.0, adjusted * SIGNIFICANCE / significance)
        margin, higher = self.margin[table.contrast_of], self.higher[table.contrast_of]
        verdict = decide(interval.low, interval.high, adjusted, margin, higher)
        beyond = is_beyond(interval.low, interval.high, margin)
        return _Judgement(adjusted, significance / multiplied, verdict, beyond)

    def _judge_by_looks(self, table: ContrastTable, looks: LookPlan) -> _Judgement:
        """For each contrast the verdict of the look that decided it."""
        size = len(table.contrast_of)
        found = _Judgement(
            np.full(size, np.nan),
            np.full(size, looks.alpha),
            [Verdict.INCONCLUSIVE] * size,
            np.zeros(size, dtype=bool),
        )
        reached = self._rounds_of_contrasts()
        for look in looks.reached(int(reached.max(initial=0))):
            early = self._contrast(self.readings.up_to_round(look))
            interval = t_interval(
                early.mean, early.error, early.degrees, confidence=looks.confidence
            )
            place = np.searchsorted(table.contrast_of, early.contrast_of)
            undecided = [found.verdict[n] is Verdict.INCONCLUSIVE for n in place.tolist()]
            pending = np.array(undecided, bool) & (reached[early.contrast_of] >= look)
            judged = self._judge(early, interval, looks.alpha, pending)
            for row in np.flatnonzero(pending):
                n = place[row]
                found.p_adjusted[n] = judged.p_adjusted[row]
                found.level[n] = judged.level[row]
                found.verdict[n] = judged.verdict[row]
                found.beyond[n] = judged.beyond[row]
        return found

    def _rounds_of_contrasts(self) -> IntArray:
        """For every contrast the last round of its benches, of the one that has the fewest."""
        last = np.zeros(len(self.readings.benches), dtype=np.int64)
        np.maximum.at(last, self.readings.bench_of, self.readings.round_of)
        return np.array(
            [min(last[arm.bench] for arm, _ in c.weights) for c in self.contrasts], np.int64
        )

    def _estimate(self, row: _Row) -> Estimate:
        """A row of the table as an estimate."""
        arm = self.contrasts[row.contrast].first
        scale, method = self.scales[arm.series], METHODS[row.method]
        ends = (row.mean, row.low, row.high)
        change, low, high = map(math.expm1, ends) if scale == "ratio" else ends
        floor = self._floor_of(arm.series, arm.bench) if method is Method.FLOOR else None
        return Estimate(
            scale=scale,
            method=method,
            change=change,
            low=low,
            high=high,
            shift=Shift(*ends, row.p_value, row.sd, row.degrees),
            p_adjusted=row.p_adjusted,
            verdict=row.verdict,
            beyond_margin=row.beyond,
            rounds=row.pairs,
            visits=row.visits,
            base_visits=row.base_visits,
            runs=row.runs + row.base_runs,
            base_runs=row.base_runs,
            unpaired=row.unpaired,
            more_rounds=row.needed if row.needed > 0 else None,
            out_of_reach=row.needed == _OUT_OF_REACH,
            noise_floor=floor,
        )

    def _more_rounds(self, table: ContrastTable, judgement: _Judgement) -> IntArray:
        """Further rounds for each inconclusive row; 0 where decided or unknown."""
        sd = pool_sd(table)
        pending = np.array([v is Verdict.INCONCLUSIVE for v in judgement.verdict], bool)
        pending &= ~np.isnan(sd)
        more = np.zeros(len(sd), dtype=np.int64)
        if not pending.any():
            return more
        needed = rounds_to_decide(
            table.mean[pending],
            sd[pending],
            self.margin[table.contrast_of][pending],
            alpha=judgement.level[pending],
        )
        present = np.maximum(table.pairs, np.minimum(table.visits, table.base_visits))[pending]
        more[pending] = np.where(needed == 0, _OUT_OF_REACH, np.maximum(needed - present, 1))
        return more
