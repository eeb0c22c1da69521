"""The fits of a study: metrics that decide, and the index over them, judged by contrasts."""

from __future__ import annotations

import functools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from ferocal.analysis.data.index import (
    INDEX,
    add_index,
    deciding_places,
    index_members,
    index_series,
    index_weights,
)
from ferocal.analysis.data.readings import (
    Readings,
    choose_scales,
    reading_uncertainty,
    summarise_visits,
)
from ferocal.analysis.data.resolution import find_resolution, find_steps
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series, change_of, margin_on_scale
from ferocal.analysis.factors.design import FactorDesign, Levels, make_design
from ferocal.analysis.factors.model import Fit, Models, Uncertain, replicates_of
from ferocal.analysis.factors.results import Judged
from ferocal.analysis.inference.families import adjust_by_family
from ferocal.analysis.inference.student import t_interval, t_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE, SIGNIFICANCE, Verdict, decide
from ferocal.analysis.inference.weights import Arm


@dataclass(frozen=True)
class FactorSetting:
    """What attribution has to know besides readings.

    ``levels`` are those of every configuration, ``reference`` those of the baseline.
    ``confidence`` is the level of intervals, more than usual in a study that was looked at often.
    Without ``parts`` it is not asked which workload carries the index. ``asked`` are workload and
    metric of those that were asked for besides what decides. ``amounts`` are by factor and level.
    ``seen`` has software facts that no factor explains, by name the value under each
    configuration, None where unknown.
    """

    levels: Sequence[Levels]
    reference: Levels
    margin: float
    interleaved: bool = True
    confidence: float = CONFIDENCE
    parts: bool = True
    asked: frozenset[tuple[str, str]] = frozenset()
    amounts: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    seen: Mapping[str, Sequence[str | None]] = field(default_factory=dict)


@dataclass(frozen=True)
class Asked:
    """A contrast that is to be judged, with the family of its test.

    ``shift`` is taken off its mean. Where it is ``turned``, more is better whatever the series.
    """

    series: int
    fit: Fit
    weights: FloatArray
    family: str
    shift: float = 0.0
    turned: bool = False


class Attribution:
    """The fits of all series of one bench, from which questions are answered.

    Series are the metrics that decide, and an index over their workloads where there are
    several. ``left_out`` are metrics that cannot enter the index.
    """

    def __init__(self, readings: Readings, bench: int, setting: FactorSetting) -> None:
        here = readings.on_bench(bench).numbers
        scales = choose_scales(readings)
        self.setting = setting
        self.bench = bench
        present = set(np.unique(here.series_of).tolist())
        self.places = deciding_places(readings.series, present)
        self.shown = [
            n
            for n, s in enumerate(readings.series)
            if n in self.places
            or (n in present and s.better != "none" and (s.workload, s.metric) in setting.asked)
        ]
        self.index_of, self.left_out = self._indices(here)
        self.readings, self.scales = add_index(here, scales, self.index_of)
        self._summaries = summarise_visits(self.readings, self.scales)
        self._models = Models(setting.levels, setting.reference)
        self._resolution = find_resolution(
            self.readings, self.scales, np.r_[find_steps(here), np.zeros(len(self.index_of))]
        )
        self._reading = reading_uncertainty(self.readings, self.scales)

    def _indices(self, here: Readings) -> tuple[dict[Series, dict[int, float]], tuple[Series, ...]]:
        """The index over all workloads, and those without one workload each."""
        members = index_members(here, self.places)
        left_out = tuple(here.series[n] for n in self.places if n not in members)
        weights = index_weights(here.series, members)
        workloads = list(dict.fromkeys(here.series[n].workload for n in weights))
        if len(workloads) < 2:
            return {}, ()

        def index(name: str) -> Series:
            return index_series(here, members, self.setting.margin, name)

        found = {index(INDEX): weights}
        for workload in workloads if self.setting.parts else ():
            own = [n for n in weights if here.series[n].workload == workload]
            found[index(f"{INDEX} of {workload}")] = index_weights(here.series, own)
        for workload in workloads if self.setting.parts and len(workloads) > 2 else ():
            rest = [n for n in weights if here.series[n].workload != workload]
            found[index(f"{INDEX} without {workload}")] = index_weights(here.series, rest)
        return found, left_out

    @property
    def index_parts(self) -> list[tuple[str, float, int, int | None]]:
        """The workloads of the index: weight, place of the part, of the index without it."""
        if self.index is None or not self.setting.parts:
            return []
        weights = next(iter(self.index_of.values()))
        workloads = list(dict.fromkeys(self.readings.series[n].workload for n in weights))
        size = len(workloads)
        return [
            (
                workload,
                sum(w for n, w in weights.items() if self.readings.series[n].workload == workload),
                self.index + 1 + k,
                self.index + 1 + size + k if size > 2 else None,
            )
            for k, workload in enumerate(workloads)
        ]

    @functools.cached_property
    def fits(self) -> dict[int, Fit]:
        """The fit of every series that has visits, by its place."""
        indices = range(len(self.readings.series) - len(self.index_of), len(self.readings.series))
        found = {}
        for n in [*indices, *self.shown]:
            visits = replicates_of(
                self._summaries, n, self.bench, interleaved=self.setting.interleaved
            )
            if len(visits.value):
                found[n] = self._models.of(visits).fit(visits.value)
        return found

    @property
    def index(self) -> int | None:
        """The place of the index over all workloads, if there is one."""
        return len(self.readings.series) - len(self.index_of) if self.index_of else None

    @property
    def main_places(self) -> list[int]:
        """The index, if there is one, all metrics that decide, and those asked for."""
        return [
            n
            for n in ([self.index] if self.index is not None else []) + self.shown
            if n in self.fits
        ]

    @functools.cached_property
    def design(self) -> FactorDesign:
        """The design of all configurations of which anything was read."""
        rows = sorted(set(self.readings.configuration_of.tolist()))
        models = [self.fits[n].model for n in self.shown if n in self.fits]
        widest = max(models, key=lambda model: len(model.rows), default=None)
        blocks: dict[int, int] = {}
        if widest is not None:
            blocks = dict(zip(widest.rows.tolist(), widest.design.block_of, strict=True))
        levels = [self.setting.levels[row] for row in rows]
        return make_design(levels, self.setting.reference, [blocks.get(row, -1) for row in rows])

    # How contrasts are judged

    def judge(self, asked: Sequence[Asked]) -> list[Judged]:
        """Intervals and verdicts; tests of one family share an error rate (Holm 1979)."""
        known = [self._estimate(a) for a in asked]
        mean, error, degrees = np.array(known, dtype=np.float64).reshape(-1, 3).T
        confidence = self.setting.confidence
        interval = t_interval(mean, error, degrees, confidence=confidence)
        adjusted, _, _ = adjust_by_family(
            interval.p_value, [a.family for a in asked], np.ones(len(asked), dtype=bool)
        )
        adjusted = np.minimum(1.0, adjusted * SIGNIFICANCE / (1 - confidence))
        series = [self.readings.series[a.series] for a in asked]
        scales = [self.scales[a.series] for a in asked]
        margin = np.array([margin_on_scale(s, x) for s, x in zip(series, scales, strict=True)])
        higher = np.array(
            [s.better == "higher" or a.turned for s, a in zip(series, asked, strict=True)]
        )
        verdicts = decide(interval.low, interval.high, adjusted, margin, higher)
        columns = (mean, interval.low, interval.high, interval.p_value, adjusted, degrees)
        return [
            _judged(s, row, scale, verdict)
            for s, row, scale, verdict in zip(
                series, np.stack(columns, axis=1).tolist(), scales, verdicts, strict=True
            )
        ]

    def _estimate(self, asked: Asked) -> Uncertain:
        """A contrast with all that is uncertain in it."""
        found = asked.fit.contrast(asked.weights)
        if math.isnan(found.mean):
            return found
        weights = asked.fit.model.row_weights(asked.weights)
        arms = Arm(asked.series, self.bench, 0).code(self.readings) + asked.fit.model.rows
        least, width = (
            float(np.linalg.norm(weights * uncertainty[arms]))
            for uncertainty in (self._resolution.error, self._reading)
        )
        error = max(found.error, least)
        if found.error == 0:
            step = float(np.abs(weights) @ self._resolution.step[arms]) / 2
            quantile = float(t_quantile(found.degrees, 0.5 + self.setting.confidence / 2))
            error = max(error, step / quantile) or math.nan
        sign = (
            -1.0 if asked.turned and self.readings.series[asked.series].better == "lower" else 1.0
        )
        return Uncertain(sign * found.mean - asked.shift, math.hypot(error, width), found.degrees)

    def family(self, n: int) -> str:
        """With which tests those of a series share an error rate."""
        return self.readings.series[n].role if self.readings.series[n].workload else INDEX

    def measured(self, n: int, start: int, end: int) -> float:
        """The mean difference of two configurations within rounds, as it was measured."""
        s = self._summaries
        rows = (s.series_of == n) & (s.bench_of == self.bench)
        centres = [
            dict(zip(s.round_of[chosen].tolist(), s.centre[chosen].tolist(), strict=True))
            for chosen in (rows & (s.configuration_of == c) for c in (start, end))
        ]
        common = centres[0].keys() & centres[1].keys()
        if not self.setting.interleaved or not common:
            chosen = [rows & (s.configuration_of == c) for c in (start, end)]
            return float(s.centre[chosen[1]].mean() - s.centre[chosen[0]].mean())
        return float(np.mean([centres[1][r] - centres[0][r] for r in common]))


def _judged(series: Series, row: Sequence[float], scale: Scale, verdict: Verdict) -> Judged:
    mean, low, high, p_value, adjusted, degrees = row
    change, lower, upper = (change_of(end, scale) for end in (mean, low, high))
    if math.isnan(low):
        verdict = Verdict.SEEN_ONCE
    return Judged(series, scale, change, lower, upper, mean, p_value, adjusted, degrees, verdict)
