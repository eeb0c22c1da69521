"""Several metrics as one: how much faster a group of them is, or all of them together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.index import (
    add_index,
    deciding_places,
    index_members,
    index_scales,
    index_series,
    index_weights,
)
from ferocal.analysis.data.readings import Readings, choose_scales
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Series, change_of
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, Estimate, Setting, Shift
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.rank.sensitivity import turned_means
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING

GEOMETRIC_MEAN, MEDIAN = "geometric mean", "median"
ALL, PRIMARY = "all metrics", "primary metrics"


@dataclass(frozen=True, kw_only=True)
class SummaryEffect(Effect):
    """A change of several metrics as one, each turned so that more is better.

    ``members`` counts them; ``mostly`` is the one that moves most of it, and ``share`` the part of
    the sum of all movements that is its own. The median has no interval and no verdict.
    """

    members: int
    mostly: Series | None = None
    share: float = float("nan")


def summarise(
    readings: Readings, baseline: str, setting: Setting, margin: float
) -> tuple[SummaryEffect, ...]:
    """The geometric mean and the median of what decides, by bench and group, then of all.

    A group has one where at least two of its metrics have ratios and were read wherever anything
    was. All have one unless a single group has all of them.
    """
    found: list[SummaryEffect] = []
    for b in range(len(readings.benches)):
        here = readings.on_bench(b)
        places = deciding_places(here.series, set(here.series_of.tolist()))
        members = index_members(here, places)
        groups: dict[str, list[int]] = {}
        for n in members:
            groups.setdefault(here.series[n].group, []).append(n)
        named = {g: m for g, m in groups.items() if g and len(m) > 1}
        if len(members) > 1 and list(named.values()) != [members]:
            others = any(s.role in DECIDING and s.role != here.series[members[0]].role
                         for s in here.series)  # fmt: skip
            named[PRIMARY if others else ALL] = members
        for group, of_group in named.items():
            weights = index_weights(here.series, of_group)
            if len(weights) > 1:
                own = here.select(np.isin(here.series_of, list(weights)))
                found += _Maker(own, b, group, weights, margin).effects(baseline, setting)
    return tuple(found)


@dataclass(frozen=True)
class _Maker:
    """What a summary is made of: readings of one bench, and the weights of its metrics."""

    readings: Readings
    bench: int
    group: str
    weights: Mapping[int, float]
    margin: float

    def effects(self, baseline: str, setting: Setting) -> Iterator[SummaryEffect]:
        """Of every configuration the geometric mean, then of every one the median."""
        readings, members = self.readings, list(self.weights)
        series = index_series(readings, members, self.margin, GEOMETRIC_MEAN)
        series = replace(series, group=self.group)
        extended, _ = add_index(
            readings, choose_scales(readings), {series: dict(self.weights)}, as_read=True
        )
        base, place = readings.configurations.index(baseline), len(readings.series)
        others = [n for n, c in enumerate(readings.configurations) if n != base
                  and c != setting.floor_arm]  # fmt: skip
        contrasts = [
            Contrast(((Arm(place, self.bench, c), 1.0), (Arm(place, self.bench, base), -1.0)),
                     f"summary of {self.group}")
            for c in others
        ]  # fmt: skip
        judged = judge_contrasts(extended, contrasts, setting)
        gains = self._gains(base, others)
        means = [
            self._effect(series, estimate, baseline, readings.configurations[others[n]], gains[n])
            for n, estimate in judged.items()
        ]
        yield from means
        yield from (self._median(mean, gains[n]) for mean, n in zip(means, judged, strict=True))

    def _effect(
        self, series: Series, estimate: Estimate, baseline: str, name: str, gains: FloatArray
    ) -> SummaryEffect:
        parts = np.abs(np.array(list(self.weights.values())) * gains)
        whole, most = float(parts.sum()), int(parts.argmax())
        return SummaryEffect(
            **vars(estimate),
            bench=self.readings.benches[self.bench],
            series=series,
            baseline=baseline,
            configuration=name,
            control=False,
            caveats=(),
            members=len(self.weights),
            mostly=self.readings.series[list(self.weights)[most]] if whole else None,
            share=float(parts[most]) / whole if whole else float("nan"),
        )

    def _gains(self, base: int, others: Sequence[int]) -> FloatArray:
        """The changes of all metrics, turned so that more is better; configurations by metrics."""
        cells = [(self.bench, c) for c in (base, *others)]
        means = turned_means(
            self.readings,
            index_scales(self.readings),
            list(self.weights),
            cells,
            np.zeros((len(cells), 1)),
        )
        gains: FloatArray = means[1:] - means[0]
        return gains

    def _median(self, mean: SummaryEffect, gains: FloatArray) -> SummaryEffect:
        nan, middle = float("nan"), float(np.median(gains))
        return replace(
            mean,
            series=replace(mean.series, metric=MEDIAN, label=MEDIAN, better="higher"),
            change=change_of(middle, "ratio"),
            low=nan,
            high=nan,
            shift=Shift(middle, nan, nan, nan, nan, nan),
            method=Method.NONE,
            verdict=Verdict.NOT_JUDGED,
            mostly=None,
        )
