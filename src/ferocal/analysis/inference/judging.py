"""From readings to judged contrasts, over all of them together."""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import (
    Readings,
    choose_scales,
    reading_uncertainty,
    round_number,
    summarise_visits,
)
from ferocal.analysis.data.resolution import find_resolution, find_steps
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale, margin_on_scale, share_of
from ferocal.analysis.inference.bounds import BoundJudge
from ferocal.analysis.inference.components import pool_sd
from ferocal.analysis.inference.contrasts import (
    METHODS,
    ContrastTable,
    Method,
    estimate_contrasts,
    hold_to_misfit,
    hold_to_resolution,
    steps_of,
    uncertainty_of,
    widen,
)
from ferocal.analysis.inference.effects import Estimate, Setting, Shift
from ferocal.analysis.inference.looks import LookPlan
from ferocal.analysis.inference.noise_floors import NoiseFloor, find_own_floor, stated_sd
from ferocal.analysis.inference.power import rounds_to_decide
from ferocal.analysis.inference.student import t_interval
from ferocal.analysis.inference.verdicts import CONFIDENCE, Judgement, Verdict, judge
from ferocal.analysis.inference.weights import Arm, Contrast


def judge_contrasts(
    readings: Readings,
    contrasts: Sequence[Contrast],
    setting: Setting,
    misfits: Mapping[int, tuple[float, float]] | None = None,
    *,
    foresees: bool = True,
) -> dict[int, Estimate]:
    """Estimate and judge contrasts; by their place, those of which all arms have readings.

    `estimate_contrasts` says which interval a contrast has. Its margin and direction
    are those of the series by which it is named, and all of its series share a scale. A side
    that is known as a bound only is judged by what the bound allows (`bounds`).
    p-values are adjusted within the families that the contrasts name. In a study that was
    measured until decided, intervals have the level of a look, and a verdict stands from the
    look at which it was reached. ``misfits`` are what a model leaves unexplained of contrasts that
    rest on one: a standard error and its degrees of freedom, which count where they are wider.
    Unless it ``foresees``, it is left open how many more rounds would decide.

    Raises
    ------
    ValueError
        When the series of a contrast are on different scales.
    """
    if not len(readings.value):
        return {}
    scales = choose_scales(readings)
    analysis = _Analysis(readings.numbers, contrasts, setting, scales, misfits or {})
    found = analysis.estimates(foresees) if len(readings.numbers.value) else {}
    if readings.bound.any():
        found |= analysis.bounds(readings, found)
    return dict(sorted(found.items()))


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
    family_size: int
    beyond: bool
    pairs: int
    visits: int
    base_visits: int
    runs: int
    base_runs: int
    unpaired: int
    needed: int
    next_look: int
    change: float
    change_low: float
    change_high: float
    verdict: Verdict


def _rows(
    table: ContrastTable,
    judged: Judgement,
    needed: IntArray,
    next_look: IntArray,
    ratio: Sequence[bool],
) -> Iterator[_Row]:
    interval = judged.interval
    changes = (
        [share_of(end) if r else end for end, r in zip(ends.tolist(), ratio, strict=True)]
        for ends in (table.mean, interval.low, interval.high)
    )
    columns = (
        table.contrast_of, table.method, table.mean, interval.low, interval.high,
        interval.p_value, table.sd, table.degrees, judged.p_adjusted, judged.family_size,
        judged.beyond, table.pairs, table.visits, table.base_visits, table.runs, table.base_runs,
        table.unpaired, needed, next_look,
    )  # fmt: skip
    # Whole columns are turned into plain numbers faster than one number after the other.
    lists = (column.tolist() for column in columns)
    return map(_Row._make, zip(*lists, *changes, judged.verdict, strict=True))


def find_floor(
    readings: Readings, series: int, bench: int, scales: Sequence[Scale], setting: Setting
) -> NoiseFloor | None:
    """The noise floor of a series on a bench, None where there is none.

    That of the study's own visits, else one from elsewhere, else how much releases vary.
    """
    own = find_own_floor(readings, series, bench, tuple(scales), setting.floor_arm)
    if own is not None:
        return own
    brought = setting.noise_floors.get((readings.benches[bench], readings.series[series]))
    if brought is None and setting.release_floor is not None:
        brought = setting.release_floor(readings, series, bench)
    return brought if brought is not None and brought.scale == scales[series] else None


class _Analysis:
    """The steps from readings to judged contrasts."""

    def __init__(
        self,
        readings: Readings,
        contrasts: Sequence[Contrast],
        setting: Setting,
        scales: tuple[Scale, ...],
        misfits: Mapping[int, tuple[float, float]],
    ) -> None:
        self.readings = readings
        self.misfits = misfits
        self.contrasts = contrasts
        self.setting = setting
        self.scales = scales
        self.steps = find_steps(readings)
        named = np.array([contrast.first.series for contrast in contrasts], dtype=np.int64)
        margins = [
            margin_on_scale(series, scale)
            for series, scale in zip(readings.series, self.scales, strict=True)
        ]
        self.margin = np.array(margins)[named]
        self.judged = np.array([s.better != "none" for s in readings.series])[named]
        self._ratio = np.array([scale == "ratio" for scale in scales], dtype=bool)[named]
        self._floors: dict[tuple[int, int], NoiseFloor | None] = {}
        self._check_scales()

    def _check_scales(self) -> None:
        for contrast in self.contrasts:
            if len({self.scales[arm.series] for arm, _ in contrast.weights}) > 1:
                names = [self.readings.series[arm.series].metric for arm, _ in contrast.weights]
                raise ValueError(f"{', '.join(names)} are on different scales: no contrast of them")

    def estimates(self, foresees: bool) -> dict[int, Estimate]:
        looks = self.setting.looks
        table = self._contrast(self.readings)
        judgement = self._judge(table) if looks is None else self._judge_by_looks(table, looks)
        needed = np.zeros(len(table.contrast_of), dtype=np.int64)
        if foresees:
            needed = self._more_rounds(table, judgement)
        ratio = self._ratio[table.contrast_of].tolist()
        rows = _rows(table, judgement, needed, self._next_looks(table), ratio)
        return {row.contrast: self._estimate(row) for row in rows}

    def bounds(self, readings: Readings, done: Container[int]) -> dict[int, Estimate]:
        """Contrasts that were not estimated, for a side is known as a bound only."""
        judge = BoundJudge(readings, self.scales, self._floor_of, self._stated_of)
        found = {
            n: judge.judge(
                contrast, float(self.margin[n]), readings.series[contrast.first.series].better
            )
            for n, contrast in enumerate(self.contrasts)
            if n not in done
        }
        return {n: estimate for n, estimate in found.items() if estimate is not None}

    def _contrast(self, readings: Readings) -> ContrastTable:
        table = estimate_contrasts(
            summarise_visits(readings, self.scales),
            readings,
            self.contrasts,
            interleaved=self.setting.interleaved,
            floor_of=self._floor_of,
            stated_of=self._stated_of,
        )
        hold_to_misfit(table, self.misfits)
        doubt = np.array([contrast.doubt for contrast in self.contrasts])
        np.hypot(table.error, doubt[table.contrast_of], out=table.error)
        widen(table, self._range_uncertainty(readings)[table.contrast_of])
        resolution = find_resolution(readings, self.scales, self.steps)
        hold_to_resolution(
            table,
            uncertainty_of(self.contrasts, resolution.error, readings)[table.contrast_of],
            steps_of(self.contrasts, resolution.step, readings)[table.contrast_of],
        )
        return table

    def _range_uncertainty(self, readings: Readings) -> FloatArray:
        """What reading off moving displays leaves uncertain in each contrast."""
        if not readings.width.any():
            return np.zeros(len(self.contrasts))
        uncertainty = reading_uncertainty(readings, self.scales)
        return uncertainty_of(self.contrasts, uncertainty, readings)

    def _stated_of(self, arm: Arm) -> float | None:
        """The SD of visits to an arm as it is stated, on the scale of the analysis."""
        value = arm.select(self.readings).value
        if not len(value):
            return None
        series = self.readings.series[arm.series]
        return stated_sd(series, self.scales[arm.series], float(value.mean()))

    def _floor_of(self, series: int, bench: int) -> NoiseFloor | None:
        if (series, bench) not in self._floors:
            self._floors[series, bench] = find_floor(
                self.readings, series, bench, self.scales, self.setting
            )
        return self._floors[series, bench]

    def _judge(
        self,
        table: ContrastTable,
        confidence: float = CONFIDENCE,
        pending: np.ndarray | None = None,
    ) -> Judgement:
        """Verdicts, adjusted within families; only ``pending`` rows are members of these."""
        asked = [self.contrasts[n] for n in table.contrast_of.tolist()]
        return judge(
            table.mean,
            table.error,
            table.degrees,
            margin=self.margin[table.contrast_of],
            directions=[
                "higher" if c.turned else self.readings.series[c.first.series].better for c in asked
            ],
            families=[c.family for c in asked],
            repeats=np.array([c.repeats for c in asked], dtype=np.int64),
            confidence=confidence,
            counts=pending,
            seen_once=table.method == METHODS.index(Method.NONE),
        )

    def _judge_by_looks(self, table: ContrastTable, looks: LookPlan) -> Judgement:
        """For each contrast the verdict of the look that decided it."""
        size = len(table.contrast_of)
        found = Judgement(
            t_interval(table.mean, table.error, table.degrees, confidence=looks.confidence),
            np.full(size, np.nan),
            np.zeros(size, dtype=np.int64),
            np.full(size, looks.alpha),
            [
                Verdict.INCONCLUSIVE if judged else Verdict.NOT_JUDGED
                for judged in self.judged[table.contrast_of].tolist()
            ],
            np.zeros(size, dtype=bool),
        )
        reached = self._rounds_looked_at()
        for look in looks.reached(int(reached.max(initial=0))):
            early = self._contrast(self.readings.up_to_round(look))
            place = np.searchsorted(table.contrast_of, early.contrast_of)
            undecided = [found.verdict[n] is Verdict.INCONCLUSIVE for n in place.tolist()]
            pending = np.array(undecided, bool) & (reached[early.contrast_of] >= look)
            judged = self._judge(early, looks.confidence, pending)
            for row in np.flatnonzero(pending):
                n = place[row]
                found.p_adjusted[n] = judged.p_adjusted[row]
                found.family_size[n] = judged.family_size[row]
                found.level[n] = judged.level[row]
                found.verdict[n] = judged.verdict[row]
                found.beyond[n] = judged.beyond[row]
        return found

    def _rounds_looked_at(self) -> IntArray:
        """For every contrast the last look at its benches, at the one that has the fewest.

        Only complete rounds are looked at, and only as often as was planned: what came after
        the last recorded look gives no verdict.
        """
        taken = self.setting.looks_taken
        if taken is None:
            last = np.zeros(len(self.readings.benches), dtype=np.int64)
            np.maximum.at(last, self.readings.bench_of, round_number(self.readings.round_of))
        else:
            last = np.array([max(taken.get(b, ()), default=0) for b in self.readings.benches])
        return np.array(
            [min(last[arm.bench] for arm, _ in c.weights) for c in self.contrasts], np.int64
        )

    def _next_looks(self, table: ContrastTable) -> IntArray:
        """For each row the round of the next look; 0 where there is none."""
        looks = self.setting.looks
        if looks is None:
            return np.zeros(len(table.contrast_of), dtype=np.int64)
        reached = self._rounds_looked_at()[table.contrast_of].tolist()
        following = [min((n for n in looks.rounds if n > r), default=0) for r in reached]
        return np.array(following, dtype=np.int64)

    def _estimate(self, row: _Row) -> Estimate:
        """A row of the table as an estimate."""
        arm = self.contrasts[row.contrast].first
        scale, method = self.scales[arm.series], METHODS[row.method]
        floor = self._floor_of(arm.series, arm.bench) if method is Method.FLOOR else None
        wanted = self.setting.replicates.get(self.readings.benches[arm.bench], "rounds")
        return Estimate(
            scale=scale,
            method=method,
            change=row.change,
            low=row.change_low,
            high=row.change_high,
            shift=Shift(row.mean, row.low, row.high, row.p_value, row.sd, row.degrees),
            p_adjusted=row.p_adjusted,
            family_size=row.family_size,
            verdict=row.verdict,
            beyond_margin=row.beyond,
            rounds=row.pairs,
            visits=row.visits,
            base_visits=row.base_visits,
            runs=row.runs + row.base_runs,
            base_runs=row.base_runs,
            unpaired=row.unpaired,
            more_rounds=row.needed if row.needed > 0 and wanted == "rounds" else None,
            out_of_reach=row.needed == _OUT_OF_REACH,
            noise_floor=floor,
            more_visits=row.needed if row.needed > 0 and wanted != "rounds" else None,
            open_until=row.next_look or None if row.verdict is Verdict.INCONCLUSIVE else None,
            read=self._read_ends(row.contrast) if method is Method.NONE else None,
        )

    def _read_ends(self, contrast: int) -> tuple[float, float] | None:
        """Between what the change of two arms is, by the ranges that were read; None without."""
        if not self.readings.width.any():
            return None
        weights = self.contrasts[contrast].weights
        sides = [arm.select(self.readings).numbers for arm, _ in weights]
        if [w for _, w in weights] != [1.0, -1.0] or not any(side.width.any() for side in sides):
            return None
        (low, high), (base_low, base_high) = (
            (float((s.value - s.width).mean()), float((s.value + s.width).mean())) for s in sides
        )
        if self.scales[weights[0][0].series] != "ratio":
            return low - base_high, high - base_low
        return (low / base_high - 1, high / base_low - 1) if base_low > 0 else None

    def _more_rounds(self, table: ContrastTable, judgement: Judgement) -> IntArray:
        """Further rounds for each inconclusive row; 0 where decided or unknown."""
        sd = pool_sd(table)
        pending = np.array([v is Verdict.INCONCLUSIVE for v in judgement.verdict], bool)
        pending &= ~np.isnan(sd) & ~np.isnan(table.error)
        more = np.zeros(len(sd), dtype=np.int64)
        if not pending.any():
            return more
        needed = rounds_to_decide(
            table.mean[pending],
            sd[pending],
            self.margin[table.contrast_of][pending],
            alpha=judgement.level[pending],
            fixed=table.fixed[pending],
        )
        if self.setting.looks is not None:
            needed = _next_looks_after(needed, self.setting.looks)
        present = np.maximum(table.pairs, np.minimum(table.visits, table.base_visits))[pending]
        more[pending] = np.where(needed == 0, _OUT_OF_REACH, np.maximum(needed - present, 1))
        return more


def _next_looks_after(needed: IntArray, looks: LookPlan) -> IntArray:
    """The look that so many rounds reach; 0 beyond the last, after which there is none."""
    rounds = np.array([*looks.rounds, 0])
    return rounds[np.searchsorted(looks.rounds, needed)] * (needed > 0)
