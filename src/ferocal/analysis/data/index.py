"""An index over workloads: one number per visit, so that whole rounds are its replicates."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import Readings, concatenate, replicate_keys, summarise_visits
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.terms.roles import DECIDING

INDEX = "index"


def index_weights(series: Sequence[Series], members: Sequence[int]) -> dict[int, float]:
    """The weight of each metric in an index: that of its workload, shared among its metrics.

    Those of all together are 1; with weights of zero throughout there are none.
    """
    count: dict[str, int] = {}
    for n in members:
        count[series[n].workload] = count.get(series[n].workload, 0) + 1
    raw = {n: series[n].weight / count[series[n].workload] for n in members}
    total = sum(raw.values())
    return {n: weight / total for n, weight in raw.items() if weight > 0} if total else {}


def index_members(readings: Readings, scales: Sequence[Scale], places: Sequence[int]) -> list[int]:
    """Those metrics that can enter an index: ratios that were read wherever anything was."""
    numbers = readings.numbers
    cell_of = numbers.cell_of
    seen = set(cell_of.tolist())
    return [
        n
        for n in places
        if scales[n] == "ratio" and set(cell_of[numbers.series_of == n].tolist()) == seen
    ]


def index_series(readings: Readings, members: Sequence[int], margin: float, name: str) -> Series:
    """An index as a series, with the role of its members."""
    role = readings.series[members[0]].role
    return Series("", name, "1", "higher", margin, role=role, label=name)


def deciding_places(series: Sequence[Series], present: Collection[int]) -> list[int]:
    """The metrics that decide: the primary ones, else the secondary ones."""
    for role in DECIDING:
        chosen = [n for n, s in enumerate(series) if s.role == role and s.better != "none"]
        found = [n for n in chosen if n in present]
        if found:
            return found
    return []


def add_index(
    readings: Readings,
    scales: tuple[Scale, ...],
    indices: Mapping[Series, Mapping[int, float]],
) -> tuple[Readings, tuple[Scale, ...]]:
    """Readings with a further series for every index.

    An index is the weighted geometric mean of metrics, each turned so that more is better, of
    every visit in which all of them were read. Its value means nothing but in a ratio, and its
    series are better when higher.
    """
    numbers = readings.numbers
    summaries = summarise_visits(numbers, scales)
    cell_of = summaries.bench_of * len(readings.configurations) + summaries.configuration_of
    keys = replicate_keys(summaries, cell_of)
    _, first, place = np.unique(keys, return_index=True, return_inverse=True)
    visits, row_of_visit = np.unique(numbers.visit_of, return_index=True)
    parts = [readings]
    for number, weights in enumerate(indices.values(), len(readings.series)):
        total, count = np.zeros(len(first)), np.zeros(len(first), dtype=np.int64)
        for n, weight in weights.items():
            rows = summaries.series_of == n
            sign = 1.0 if readings.series[n].better == "higher" else -1.0
            total[place[rows]] += weight * sign * summaries.centre[rows]
            count[place[rows]] += 1
        whole = np.flatnonzero(count == len(weights))
        visit = summaries.visit_of[first[whole]]
        members = numbers.select(row_of_visit[np.searchsorted(visits, visit)])
        parts.append(_as_series(members, number, np.exp(total[whole])))
    joined = replace(concatenate(parts), series=(*readings.series, *indices))
    further: list[Scale] = ["ratio" for _ in indices]
    return joined, (*scales, *further)


def _as_series(members: Readings, number: int, value: FloatArray) -> Readings:
    size = len(value)
    return replace(
        members,
        series_of=np.full(size, number, dtype=np.int64),
        value=value,
        width=np.zeros(size),
        samples=np.full(size, np.nan),
    )
