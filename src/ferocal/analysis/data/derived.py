"""Derived series: computed from others, run by run or visit by visit, before any analysis."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import Readings, concatenate, middle_of_runs, replicate_keys
from ferocal.analysis.data.segments import FloatArray, IntArray, find_segments, sort_within
from ferocal.terms.formulas import (
    Declared,
    Formula,
    Gathered,
    Number,
    Operation,
    Reading,
    Term,
)
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import listed

BY_ZERO = "a division by zero"
NO_LOGARITHM = "a geometric mean of what is not above zero"
TWO_BOUNDS = "bounds on both sides, which leave nothing known"


@dataclass(frozen=True)
class Loss:
    """Values of a derived series on a bench under a configuration that could not be computed."""

    series: int
    bench: int
    configuration: int
    reason: str
    count: int


# Of a declared quantity, the amount by bench and configuration, shape (b, c); NaN where unsaid.
Amounts = Mapping[str, FloatArray]


class _Span(NamedTuple):
    """Values with the lowest and highest that they may be, shape (n,) each."""

    value: FloatArray
    low: FloatArray
    high: FloatArray


@dataclass(frozen=True)
class _Rows:
    """What a formula is computed from: one row per run or visit, and its place in the readings."""

    spans: Mapping[Reading, _Span]
    lead: IntArray
    amounts: Callable[[str], FloatArray]


def add_derived(
    readings: Readings, formulas: Mapping[int, Formula], amounts: Amounts
) -> tuple[Readings, tuple[Loss, ...]]:
    """Readings with those of derived series, and what could not be computed.

    Parameters
    ----------
    readings
        What was read; derived series are among its series, without any reading.
    formulas
        By the place of a derived series, what it is computed from.
    amounts
        The declared quantities that formulas name.

    Notes
    -----
    A formula within one workload is computed for every run, one across workloads for every
    visit, from the medians of its runs (means below three). Ranges and bounds are carried
    through by interval arithmetic (Moore 1966, Interval Analysis).
    """
    codes = {(s.workload, s.metric): n for n, s in enumerate(readings.series)}
    parts, losses, steps = [readings], [], {}
    for place, formula in formulas.items():
        rows, missing = _join(readings, formula, codes, amounts)
        steps[place] = _resolution(readings, formula, codes, rows)
        losses += [Loss(place, b, c, reason, n) for b, c, reason, n in missing]
        faults: dict[str, np.ndarray] = {}
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            span = _evaluate(formula.term, rows, faults)
            span = _Span(*(column / formula.factor for column in span))
        made, bad = _as_readings(readings, place, rows.lead, span, faults)
        losses += bad
        parts.append(made)
    series = tuple(
        replace(s, resolution=steps.get(n) or s.resolution) for n, s in enumerate(readings.series)
    )
    return replace(concatenate(parts), series=series), tuple(losses)


def _resolution(
    readings: Readings, formula: Formula, codes: Mapping[tuple[str, str], int], rows: _Rows
) -> float | None:
    """The step that declared resolutions leave in a derived series, None where there is none."""
    declared = {
        operand: (readings.series[codes[operand.workload, operand.metric]].resolution or 0.0)
        for operand in formula.readings
    }
    if not any(declared.values()) or not len(rows.lead):
        return None
    spans = {
        operand: _Span(span.value, span.value - half, span.value + half)
        for operand, span in rows.spans.items()
        for half in (declared[operand] * operand.factor / 2,)
    }
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        span = _evaluate(formula.term, replace(rows, spans=spans), {})
    width = (span.high - span.low) / formula.factor
    return float(np.median(width[np.isfinite(width)])) if np.isfinite(width).any() else None


def _join(
    readings: Readings, formula: Formula, codes: Mapping[tuple[str, str], int], amounts: Amounts
) -> tuple[_Rows, list[tuple[int, int, str, int]]]:
    """The runs or visits that have all parts, and by bench and configuration what is missing."""
    key = replicate_keys(readings, readings.cell_of) if formula.across else readings.run_of
    found = {}
    for operand in formula.readings:
        rows = np.flatnonzero(readings.series_of == codes[operand.workload, operand.metric])
        found[operand] = _summarise(readings, rows, key[rows], operand.factor)
    every = np.unique(np.concatenate([keys for keys, _, _ in found.values()]))
    present = {operand: np.isin(every, keys) for operand, (keys, _, _) in found.items()}
    whole = np.all(list(present.values()), axis=0)
    spans = {
        operand: _Span(*(column[np.searchsorted(keys, every[whole])] for column in span))
        for operand, (keys, span, _) in found.items()
    }
    first = np.full(len(every), -1, dtype=np.int64)
    for keys, _, lead in found.values():
        place = np.searchsorted(every, keys)
        first[place] = np.where(first[place] < 0, lead, first[place])
    lead = first[whole]
    missing = _missing(readings, first, present, whole)

    def amount(name: str) -> FloatArray:
        declared: FloatArray = amounts[name][
            readings.bench_of[lead], readings.configuration_of[lead]
        ]
        return declared

    return _Rows(spans, lead, amount), missing


def _missing(
    readings: Readings, first: IntArray, present: Mapping[Reading, np.ndarray], whole: np.ndarray
) -> list[tuple[int, int, str, int]]:
    found: dict[tuple[int, int, str], int] = {}
    for n in np.flatnonzero(~whole).tolist():
        names = [f"{o.workload} {o.metric}" for o, there in present.items() if not there[n]]
        verb = "is" if len(names) == 1 else "are"
        row = int(first[n])
        place = (int(readings.bench_of[row]), int(readings.configuration_of[row]))
        key = (*place, f"{listed(names)} {verb} missing")
        found[key] = found.get(key, 0) + 1
    return [(*key, count) for key, count in found.items()]


def _summarise(
    readings: Readings, rows: IntArray, key: IntArray, factor: float
) -> tuple[IntArray, _Span, IntArray]:
    """Keys in ascending order, the values of each in base units, and the first row of each."""
    value, width, bound = readings.value[rows], readings.width[rows], readings.bound[rows]
    columns = (
        value,
        np.where(bound < 0, -np.inf, value - width),
        np.where(bound > 0, np.inf, value + width),
    )
    distinct, label = np.unique(key, return_inverse=True)
    made = []
    for column in columns:
        order = sort_within(column, label)
        stretches = find_segments([label[order]])
        made.append(middle_of_runs(stretches, column[order]) * factor)
    order = np.lexsort((readings.run_of[rows], label))
    lead = rows[order[find_segments([label[order]]).starts]] if len(rows) else rows
    return distinct, _Span(*made), lead


def _evaluate(term: Term, rows: _Rows, faults: dict[str, np.ndarray]) -> _Span:
    """The values of a term, in base units; ``faults`` collects by reason where there are none."""
    size = len(rows.lead)
    if isinstance(term, Reading):
        return rows.spans[term]
    if isinstance(term, Number):
        return _exact(np.full(size, term.value))
    if isinstance(term, Declared):
        amount = rows.amounts(term.name)
        _fault(faults, f"{term.name} is not declared there", np.isnan(amount))
        return _exact(amount * term.factor)
    if isinstance(term, Gathered):
        return _gather(term, [_evaluate(part, rows, faults) for part in term.terms], faults)
    return _operate(
        term, _evaluate(term.left, rows, faults), _evaluate(term.right, rows, faults), faults
    )


def _exact(value: FloatArray) -> _Span:
    return _Span(value, value, value)


def _fault(faults: dict[str, np.ndarray], reason: str, where: np.ndarray) -> None:
    faults[reason] = faults.get(reason, False) | where


def _operate(term: Operation, left: _Span, right: _Span, faults: dict[str, np.ndarray]) -> _Span:
    if term.operator == "+":
        return _Span(*(a + b for a, b in zip(left, right, strict=True)))
    if term.operator == "-":
        return _Span(left.value - right.value, left.low - right.high, left.high - right.low)
    if term.operator == "*":
        return _corners(left.value * right.value, left, right, np.multiply)
    _fault(faults, BY_ZERO, right.value == 0)
    span = _corners(left.value / right.value, left, right, np.divide)
    open_ended = (right.low <= 0) & (right.high >= 0)
    low = np.where(open_ended, -np.inf, span.low)
    return _Span(span.value, low, np.where(open_ended, np.inf, span.high))


def _corners(value: FloatArray, left: _Span, right: _Span, operate: np.ufunc) -> _Span:
    """Products and quotients are smallest and largest at the ends of their parts."""
    ends = [operate(a, b) for a in (left.low, left.high) for b in (right.low, right.high)]
    # Nothing times anything is nothing, however large that may be.
    ends = [np.where(np.isnan(end) & ~np.isnan(value), 0.0, end) for end in ends]
    return _Span(value, np.minimum.reduce(ends), np.maximum.reduce(ends))


def _gather(term: Gathered, spans: list[_Span], faults: dict[str, np.ndarray]) -> _Span:
    columns = [np.stack([getattr(span, name) for span in spans]) for name in _Span._fields]
    if term.how == "median":
        return _Span(*(np.median(column, axis=0) for column in columns))
    _fault(faults, NO_LOGARITHM, np.any(columns[0] <= 0, axis=0))
    return _Span(*(np.exp(np.mean(np.log(np.maximum(c, 0.0)), axis=0)) for c in columns))


def _as_readings(
    readings: Readings, place: int, lead: IntArray, span: _Span, faults: dict[str, np.ndarray]
) -> tuple[Readings, list[Loss]]:
    """The rows of a derived series, and those that have no value."""
    bad = ~np.isfinite(span.value)
    boundless = np.isneginf(span.low) & np.isposinf(span.high)
    _fault(faults, TWO_BOUNDS, boundless & ~bad)
    for where in faults.values():
        bad = bad | where
    kept = ~bad
    value, low, high = (column[kept] for column in span)
    bound = np.where(np.isposinf(high), 1, np.where(np.isneginf(low), -1, 0))
    value = np.where(bound > 0, low, np.where(bound < 0, high, value))
    width = np.where(bound == 0, (high - low) / 2, 0.0)
    made = replace(
        readings.select(lead[kept]),
        series_of=np.full(len(value), place, dtype=np.int64),
        value=value,
        width=np.where(width > 1e-12 * np.abs(value), width, 0.0),
        bound=bound.astype(np.int64),
        samples=np.full(len(value), np.nan),
    )
    return made, list(_losses(readings, place, lead, faults, bad))


def _losses(
    readings: Readings, place: int, lead: IntArray, faults: dict[str, np.ndarray], bad: np.ndarray
) -> Iterator[Loss]:
    told = np.zeros(len(lead), dtype=bool)
    for reason, where in [*faults.items(), ("a result that no number can hold", bad)]:
        rows = lead[where & ~told]
        told |= where
        places = np.stack([readings.bench_of[rows], readings.configuration_of[rows]], axis=1)
        distinct, counts = np.unique(places, axis=0, return_counts=True)
        for (bench, configuration), count in zip(distinct.tolist(), counts.tolist(), strict=True):
            yield Loss(place, bench, configuration, reason, count)
