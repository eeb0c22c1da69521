"""The fits of a study: metrics that decide, and the index over them, judged by contrasts."""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from dataclasses import field

import numpy as np

from ferocal.analysis.data.index import (
    INDEX,
    add_index,
    deciding_places,
    index_members,
    index_series,
    index_weights,
)
from ferocal.analysis.data.readings import Readings, choose_scales, summarise_visits
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.design import FactorDesign, Levels, make_design
from ferocal.analysis.factors.model import Fit, Models, replicates_of
from ferocal.analysis.factors.results import Judged
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class FactorSetting:
    """What attribution has to know besides readings.

    ``levels`` are those of every configuration, ``reference`` those of the baseline, ``judging``
    is what contrasts are judged in.
    Without ``parts`` it is not asked which workload carries the index. ``asked`` are workload and
    metric of those that were asked for besides what decides. ``amounts`` are by factor and level.
    ``seen`` has software facts that no factor explains, by name the value under each
    configuration, None where unknown.
    """

    levels: Sequence[Levels]
    reference: Levels
    margin: float
    judging: Setting = field(default_factory=Setting)
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
        self.readings, self.scales = add_index(readings, scales, self.index_of)
        self._summaries = summarise_visits(self.readings.numbers, self.scales)
        self._models = Models(setting.levels, setting.reference)
        # The baseline a second time would be compared with the others, too, and with itself.
        control = setting.judging.floor_arm
        self._barred = -1 if control is None else readings.configurations.index(control)

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
                self._summaries,
                n,
                self.bench,
                interleaved=self.setting.judging.interleaved,
                without=self._barred,
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
        here = self.readings.on_bench(self.bench).numbers
        rows = sorted(set(here.configuration_of.tolist()) - {self._barred})
        models = [self.fits[n].model for n in self.shown if n in self.fits]
        widest = max(models, key=lambda model: len(model.rows), default=None)
        blocks: dict[int, int] = {}
        if widest is not None:
            blocks = dict(zip(widest.rows.tolist(), widest.design.block_of, strict=True))
        levels = [self.setting.levels[row] for row in rows]
        return make_design(levels, self.setting.reference, [blocks.get(row, -1) for row in rows])

    # How contrasts are judged

    def contrast(self, asked: Asked) -> Contrast:
        """A question as a sum of the means of configurations."""
        model = asked.fit.model
        weights = model.row_weights(asked.weights).tolist()
        arms = (Arm(asked.series, self.bench, int(row)) for row in model.rows)
        pairs = tuple((arm, w) for arm, w in zip(arms, weights, strict=True) if w)
        # The arm of positive weight names the contrast, as in a comparison.
        pairs = tuple(sorted(pairs, key=lambda pair: -pair[1]))
        return Contrast(pairs, asked.family, turned=asked.turned, offset=asked.shift)

    def judge(self, asked: Sequence[Asked]) -> list[Judged]:
        """Intervals and verdicts; tests of one family share an error rate (Holm 1979)."""
        found = judge_contrasts(
            self.readings,
            [self.contrast(a) for a in asked],
            self.setting.judging,
            {n: a.fit.misfit(a.weights) for n, a in enumerate(asked)},
        )
        return [Judged(**vars(found[n]), series=self.readings.series[a.series])
                for n, a in enumerate(asked)]  # fmt: skip

    def family(self, n: int) -> str:
        """With which tests those of a series share an error rate."""
        return self.readings.series[n].role if self.readings.series[n].workload else INDEX

    def measured(self, places: Sequence[int], start: int, end: int) -> dict[int, float]:
        """Of some series the difference of two configurations as it was measured."""
        contrasts = [
            Contrast(
                ((Arm(n, self.bench, end), 1.0), (Arm(n, self.bench, start), -1.0)), "measured"
            )
            for n in places
        ]
        found = judge_contrasts(self.readings, contrasts, self.setting.judging)
        return {n: found[k].shift.mean for k, n in enumerate(places)}
