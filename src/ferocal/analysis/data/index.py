"""An index over workloads: one number per visit, so that whole rounds are its replicates."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.readings import (
    Readings,
    VisitSummaries,
    choose_scales,
    concatenate,
    reading_uncertainty,
    replicate_keys,
    summarise_visits,
)
from ferocal.analysis.data.resolution import find_resolution, find_steps
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.terms.roles import DECIDING
from ferocal.terms.units import has_ratios

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


def index_scales(readings: Readings) -> tuple[Scale, ...]:
    """The scales of series as they enter an index: ratios, whatever unit their margins have."""
    return choose_scales(readings, margins=False)


class WhyNot(StrEnum):
    """Why a metric cannot enter an index."""

    NO_RATIO = "may be zero or negative"
    NO_ZERO = "has no natural zero"
    NOT_EVERYWHERE = "not read everywhere"
    NO_WEIGHT = "has no weight"
    NOT_COMPARABLE = "not comparable everywhere"


def index_members(readings: Readings, places: Sequence[int]) -> list[int]:
    """Those metrics that can enter an index: ratios that were read wherever anything was."""
    reasons = why_not_in_index(readings, places)
    return [n for n in places if n not in reasons]


def why_not_in_index(readings: Readings, places: Sequence[int]) -> dict[int, WhyNot]:
    """By the place of each metric that cannot enter an index, the reason."""
    numbers, scales = readings.numbers, index_scales(readings)
    seen = set(numbers.cell_of.tolist())
    cells: dict[int, set[int]] = {}
    for arm in np.unique(numbers.arm_of).tolist():
        n, cell = divmod(arm, len(readings.benches) * len(readings.configurations))
        cells.setdefault(n, set()).add(cell)
    found = {}
    for n in places:
        if not has_ratios(readings.series[n].unit):
            found[n] = WhyNot.NO_ZERO
        elif scales[n] != "ratio":
            found[n] = WhyNot.NO_RATIO
        elif cells.get(n, set()) != seen:
            found[n] = WhyNot.NOT_EVERYWHERE
    return found


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
    *,
    as_read: bool = False,
) -> tuple[Readings, tuple[Scale, ...]]:
    """Readings with a further series for every index.

    An index is the weighted geometric mean of metrics, each turned so that more is better, of
    every visit in which all of them were read. Its value means nothing but in a ratio, and its
    series are better when higher. What ranges and resolution leave uncertain in its metrics is in
    it, in proportion to their weights, as the half of a range. Where no visit has all metrics, it
    may be taken ``as_read``: one value, that of the means of the metrics.
    """
    numbers, own_scales = readings.numbers, index_scales(readings)
    summaries = summarise_visits(numbers, own_scales)
    cell_of = summaries.bench_of * len(readings.configurations) + summaries.configuration_of
    keys = replicate_keys(summaries, cell_of)
    _, first, place = np.unique(keys, return_index=True, return_inverse=True)
    known = _known_uncertainty(numbers, own_scales)
    parts = [readings]
    for number, weights in enumerate(indices.values(), len(readings.series)):
        total, count = np.zeros(len(first)), np.zeros(len(first), dtype=np.int64)
        signed = _signed(readings.series, weights)
        for n, weight in signed.items():
            rows = summaries.series_of == n
            total[place[rows]] += weight * summaries.centre[rows]
            count[place[rows]] += 1
        whole = np.flatnonzero(count == len(weights))
        visit, value = summaries.visit_of[first[whole]], total[whole]
        if as_read:
            further = _as_read(summaries, cell_of, signed, cell_of[first[whole]])
            visit, value = np.r_[visit, further[0]], np.r_[value, further[1]]
        parts.append(_as_series(_rows_of_visits(numbers, visit), number, value, known, signed))
    joined = replace(concatenate(parts), series=(*readings.series, *indices))
    further_scales: list[Scale] = ["ratio" for _ in indices]
    return joined, (*scales, *further_scales)


def _signed(series: Sequence[Series], weights: Mapping[int, float]) -> dict[int, float]:
    return {n: w if series[n].better == "higher" else -w for n, w in weights.items()}


def _as_read(
    summaries: VisitSummaries, cell_of: IntArray, weights: Mapping[int, float], done: IntArray
) -> tuple[IntArray, FloatArray]:
    """For each cell that is not ``done`` a visit that stands for it, and the index of its means."""
    members = np.isin(summaries.series_of, list(weights))
    cells = [c for c in np.unique(cell_of[members]).tolist() if c not in set(done.tolist())]
    visits, values = [], []
    for cell in cells:
        own = {n: np.flatnonzero((cell_of == cell) & (summaries.series_of == n)) for n in weights}
        if all(len(rows) for rows in own.values()):
            values.append(sum(w * summaries.centre[own[n]].mean() for n, w in weights.items()))
            visits.append(int(summaries.visit_of[next(iter(own.values()))[0]]))
    return np.array(visits, dtype=np.int64), np.array(values, dtype=np.float64)


def _rows_of_visits(numbers: Readings, visits: IntArray) -> Readings:
    """One row of each visit, for what the visit is."""
    known, row_of_visit = np.unique(numbers.visit_of, return_index=True)
    return numbers.select(row_of_visit[np.searchsorted(known, visits)])


def _known_uncertainty(numbers: Readings, scales: tuple[Scale, ...]) -> FloatArray:
    """What ranges and resolution leave uncertain by arm, on the scale of the index, shape (a,)."""
    if not len(numbers.value):
        return np.zeros(numbers.arm_count)
    resolution = find_resolution(numbers, scales, find_steps(numbers)).error
    found: FloatArray = np.hypot(reading_uncertainty(numbers, scales), resolution)
    return found


def _as_series(
    members: Readings, number: int, log: FloatArray, known: FloatArray, weights: Mapping[int, float]
) -> Readings:
    size, cells = len(log), len(members.benches) * len(members.configurations)
    squares = sum(
        (w * w * known[n * cells + members.cell_of] ** 2 for n, w in weights.items()),
        np.zeros(size),
    )
    value = np.exp(log)
    # A range lies on the positive side, as the index does.
    width = value * np.minimum(np.sqrt(3 * squares), 0.999)
    return replace(
        members,
        series_of=np.full(size, number, dtype=np.int64),
        value=value,
        width=width,
        samples=np.full(size, np.nan),
    )
