"""Readings in bulk, as columns of numbers."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray

from ferocal.ledger import schema
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.runs import COUNTS, read_excluded
from ferocal.ledger.reading.visits import VisitRow, read_visits
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger
from ferocal.study.metrics import READ_AS, SETTLED, USUAL
from ferocal.traces.packing import unpack_columns

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]
BoolArray = NDArray[np.bool_]


@dataclass(frozen=True)
class ReadingColumns:
    """Valid readings as columns of numbers, and what the numbers stand for.

    ``run``, ``metric``, ``visit`` and ``position`` (of the run in its visit) are keys of
    shape (n,), ``value`` is the reading, ``samples`` how many single values it summarises
    (NaN where unknown), ``width`` half of the range in which it was read, mostly 0; where the
    reading ``settled`` within it, the range says nothing against it. ``bound``
    is +1 where the true value is above the reading, −1 where it is below, mostly 0.
    Corrections are in place. ``excluded`` counts the runs that are marked as not to be used;
    ``states_statistics`` says whether `read_statistics` finds any.
    """

    run: IntArray
    metric: IntArray
    visit: IntArray
    position: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
    settled: BoolArray
    bound: IntArray
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]
    excluded: int
    states_statistics: bool


def read_columns(ledger: Ledger) -> ReadingColumns:
    """All valid readings: of runs that ended well and are not excluded, no warm-ups."""
    reading, run = schema.reading.c, schema.run.c
    # Two scans and a look-up here are faster than a join of as many rows there.
    query = sa.select(run.id, run.visit_id, run.position)
    query = query.where(run.outcome == Outcome.OK, sa.not_(run.warmup)).order_by(run.id)
    runs = ledger.numbers(query, 3).astype(np.int64)
    visits, excluded = read_visits(ledger), read_excluded(ledger)
    active = [key for key, visit in visits.items() if visit.state == "active"]
    runs = runs[np.isin(runs[:, 1], active) & ~np.isin(runs[:, 0], list(excluded))]
    readings = ledger.numbers(sa.select(reading.run_id, reading.metric_id, reading.value), 3)
    keys = readings[:, :2].astype(np.int64)
    place = np.searchsorted(runs[:, 0], keys[:, 0])
    valid = place < len(runs)
    valid[valid] = runs[place[valid], 0] == keys[valid, 0]
    place = place[valid]
    numbers = _read_details(ledger, keys)
    numbers["value"] = readings[:, 2]
    _correct(ledger, keys, numbers)
    metric = schema.metric.c
    metrics = sa.select(metric.id, metric.workload, metric.name, metric.unit)
    return ReadingColumns(
        run=keys[valid, 0],
        metric=keys[valid, 1],
        visit=runs[place, 1],
        position=runs[place, 2],
        value=numbers["value"][valid],
        samples=numbers["samples"][valid],
        width=numbers["width"][valid],
        settled=numbers["settled"][valid] > 0,
        bound=numbers["bound"][valid].astype(np.int64),
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=visits,
        excluded=len(excluded),
        states_statistics=bool(numbers["states"].any()),
    )


def read_statistics(ledger: Ledger) -> dict[str, dict[tuple[str, str, str], frozenset[str]]]:
    """By bench what readings are of several values, "" of those that do not state it.

    The keys are configuration, workload and metric.
    """
    reading, visit, metric = schema.reading.c, schema.visit.c, schema.metric.c
    query = (
        sa.select(
            visit.bench,
            visit.configuration,
            metric.workload,
            metric.name,
            # How a display was read says nothing of a statistic.
            sa.case(
                (reading.statistic.in_(READ_AS), ""), else_=sa.func.coalesce(reading.statistic, "")
            ),
        )
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .join(schema.metric)
        .distinct()
    )
    found: dict[str, dict[tuple[str, str, str], set[str]]] = {}
    for bench, *place, statistic in ledger.rows(query):
        found.setdefault(bench, {}).setdefault(tuple(place), set()).add(statistic)
    return {
        bench: {place: frozenset(texts) for place, texts in places.items()}
        for bench, places in found.items()
    }


def _correct(ledger: Ledger, keys: IntArray, numbers: dict[str, FloatArray]) -> None:
    """Put corrections in the place of the readings (run and metric) that they are of."""
    for (run, metric), correction in read_corrections(ledger).items():
        row = np.flatnonzero((keys[:, 0] == run) & (keys[:, 1] == metric))
        numbers["value"][row] = correction.value
        numbers["width"][row] = correction.width
        numbers["settled"][row] = correction.settled
        numbers["bound"][row] = {">": 1.0, "<": -1.0}.get(correction.bound or "", 0.0)


def _read_details(ledger: Ledger, keys: IntArray) -> dict[str, FloatArray]:
    """What few readings (run and metric) have, in columns as long as ``keys``; one scan."""
    c = schema.reading.c
    details = {
        "samples": (sa.func.coalesce(c.samples, -1), c.samples, np.nan),
        "width": (sa.func.coalesce((c.high - c.low) / 2, 0.0), c.low, 0.0),
        "settled": (sa.case((c.statistic.in_((SETTLED, USUAL)), 1), else_=0), c.statistic, 0.0),
        "bound": (sa.case((c.bound == ">", 1), (c.bound == "<", -1), else_=0), c.bound, 0.0),
        "states": (sa.case((c.statistic.is_not(None), 1), else_=0), c.statistic, 0.0),
    }
    columns = [column for column, _, _ in details.values()]
    given = sa.or_(*(source.is_not(None) for _, source, _ in details.values()))
    rows = ledger.numbers(sa.select(c.run_id, c.metric_id, *columns).where(given), 2 + len(details))
    found = {name: np.full(len(keys), default) for name, (_, _, default) in details.items()}
    if len(rows):
        width = int(keys[:, 1].max()) + 1
        code, wanted = (pair[:, 0] * width + pair[:, 1] for pair in (keys, rows[:, :2]))
        order = np.argsort(code)
        place = order[np.searchsorted(code, wanted, sorter=order)]
        for number, name in enumerate(details, 2):
            found[name][place] = rows[:, number]
        found["samples"][found["samples"] < 0] = np.nan
    return found


@dataclass(frozen=True)
class TraceRow:
    """A trace with the bench and the configuration that it is of, and the key of its visit."""

    bench: str
    configuration: str
    visit: int
    columns: dict[str, np.ndarray]


def read_traces(ledger: Ledger, kind: str, workload: str, metric: str) -> Iterator[TraceRow]:
    """The captures of one metric, run by run, of runs that count.

    They are read one at a time: together they may be larger than the memory.

    Raises
    ------
    LedgerError
        When the ledger cannot be read, or a trace is damaged.
    """
    trace, run, visit = schema.trace.c, schema.run.c, schema.visit.c
    excluded = read_excluded(ledger)
    query = (
        sa.select(trace.id, run.id, visit.bench, visit.configuration, visit.id)
        .join_from(schema.trace, schema.run)
        .join(schema.visit)
        .where(trace.kind == kind, trace.metric == metric, run.workload == workload)
        .where(*COUNTS)
        .order_by(run.id, trace.number)
    )
    for key, run_id, bench, configuration, visit_id in ledger.rows(query):
        if run_id not in excluded:
            content = ledger.rows(sa.select(trace.content).where(trace.id == key))[0][0]
            yield TraceRow(bench, configuration, visit_id, unpack_columns(content))
