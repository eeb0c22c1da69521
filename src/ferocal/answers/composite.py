"""Composites: several metrics together, with the weights that are preferred."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from ferocal.analysis.data.index import (
    INDEX,
    WhyNot,
    add_index,
    index_series,
    index_weights,
)
from ferocal.analysis.data.readings import Readings, choose_scales
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Setting
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Composite:
    """Readings with an index, its place among their series, and what it is made of."""

    readings: Readings
    series: int
    weights: Mapping[int, float]
    parts: Mapping[str, list[tuple[int, float]]]

    @property
    def shares(self) -> dict[str, float]:
        """The share of every part among all weights."""
        return {name: sum(weight for _, weight in part) for name, part in self.parts.items()}


class Composites:
    """Makes composites of the readings of a study.

    With ``per_metric``, the place of a metric, each is over that metric.
    """

    def __init__(
        self,
        study: Study,
        readings: Readings,
        setting: Setting,
        preference: str | None,
        per_metric: int | None,
    ) -> None:
        self.setting = setting
        self._study, self._readings = study, readings
        self._preference, self._per_metric = preference, per_metric

    def make(self, members: Sequence[int], reasons: dict[int, WhyNot]) -> Composite | None:
        """All metrics together, None where fewer than two can enter, of those that have a weight.

        What has none is added to the ``reasons``. Weights that are asked for count in any case.
        """
        weights = index_weights(self._weighted(members), members)
        reasons |= {n: WhyNot.NO_WEIGHT for n in members if n not in weights}
        if len(weights) < (2 if self._preference is None else 1):
            return None
        name = self._preference or INDEX
        index = index_series(self._readings, list(weights), self._study.head.margin, name)
        extended, place = self.with_index({index: dict(weights)})
        return Composite(extended, place, weights, self._parts(self._readings.series, weights))

    def with_index(self, indices: dict[Series, dict[int, float]]) -> tuple[Readings, int]:
        """The readings with an index, over the metric that it is per where there is one."""
        readings = self._readings
        if self._per_metric is not None:
            n = self._per_metric
            indices = {
                s: {**w, n: w.get(n, 0.0) + sign_of_cost(readings.series[n])}
                for s, w in indices.items()
            }
        extended, _ = add_index(readings, choose_scales(readings), indices, as_read=True)
        return extended, len(readings.series)

    def _weighted(self, members: Sequence[int]) -> list[Series]:
        """All series, the members of the composite with the weights that are preferred."""
        series = list(self._readings.series)
        if self._preference is None:
            return series
        wanted = self._study.file.preference[self._preference].weights
        groups: dict[str, set[str]] = {}
        for n in members:
            if series[n].workload not in wanted:
                groups.setdefault(series[n].group, set()).add(series[n].workload)
        for n in members:
            own = wanted.get(series[n].workload)
            group = wanted.get(series[n].group, 0.0) / len(groups.get(series[n].group, {""}))
            series[n] = replace(series[n], weight=group if own is None else own)
        return series

    def _parts(
        self, series: Sequence[Series], weights: Mapping[int, float]
    ) -> dict[str, list[tuple[int, float]]]:
        """The parts of the composite by name, with the columns of their metrics."""
        wanted = {}
        if self._preference is not None:
            wanted = self._study.file.preference[self._preference].weights
        parts: dict[str, list[tuple[int, float]]] = {}
        for column, (n, weight) in enumerate(weights.items()):
            s = series[n]
            name = s.group if s.group in wanted and s.workload not in wanted else s.workload
            parts.setdefault(name, []).append((column, weight))
        return parts


def sign_of_cost(series: Series) -> float:
    """How a metric enters what is per it: it is divided by, whatever direction is better."""
    return 1.0 if series.better == "lower" else -1.0
