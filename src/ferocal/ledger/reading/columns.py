"""Readings in bulk, as columns of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray

from ferocal.ledger import schema
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.runs import read_excluded
from ferocal.ledger.reading.visits import VisitRow, read_visits
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class ReadingColumns:
    """Valid readings as columns of numbers, and what the numbers stand for.

    ``run``, ``metric``, ``visit`` and ``position`` (of the run in its visit) are keys of
    shape (n,), ``value`` is the reading, ``samples`` how many single values it summarises
    (NaN where unknown), ``width`` half of the range in which it was read, mostly 0. ``bound``
    is +1 where the true value is above the reading, −1 where it is below, mostly 0.
    Corrections are in place. ``excluded`` counts the runs that are marked as not to be used.
    """

    run: IntArray
    metric: IntArray
    visit: IntArray
    position: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
    bound: IntArray
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]
    excluded: int


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
    bound = sa.case((reading.bound == ">", 1.0), (reading.bound == "<", -1.0))
    numbers = {
        "value": readings[:, 2],
        "width": _sparse(ledger, keys, (reading.high - reading.low) / 2, 0.0),
        "bound": _sparse(ledger, keys, bound, 0.0),
    }
    _correct(ledger, keys, numbers)
    metric = schema.metric.c
    metrics = sa.select(metric.id, metric.workload, metric.name, metric.unit)
    return ReadingColumns(
        run=keys[valid, 0],
        metric=keys[valid, 1],
        visit=runs[place, 1],
        position=runs[place, 2],
        value=numbers["value"][valid],
        samples=_sparse(ledger, keys, reading.samples, np.nan)[valid],
        width=numbers["width"][valid],
        bound=numbers["bound"][valid].astype(np.int64),
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=visits,
        excluded=len(excluded),
    )


def read_statistics(ledger: Ledger) -> dict[str, dict[tuple[str, str, str], frozenset[str]]]:
    """By bench what readings are of several values, where they state it themselves.

    The keys are configuration, workload and metric.
    """
    reading, visit, metric = schema.reading.c, schema.visit.c, schema.metric.c
    query = (
        sa.select(visit.bench, visit.configuration, metric.workload, metric.name, reading.statistic)
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .join(schema.metric)
        .where(reading.statistic.is_not(None))
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
        numbers["bound"][row] = {">": 1.0, "<": -1.0}.get(correction.bound or "", 0.0)


def _sparse(
    ledger: Ledger, keys: IntArray, column: sa.ColumnElement[Any], default: float
) -> FloatArray:
    """A column that few readings (run and metric) have a value in; ``default`` for the rest."""
    values = np.full(len(keys), default)
    c = schema.reading.c
    query = sa.select(c.run_id, c.metric_id, column).where(column.is_not(None))
    given = ledger.numbers(query, 3)
    if len(given):
        width = int(keys[:, 1].max()) + 1
        code, wanted = (pair[:, 0] * width + pair[:, 1] for pair in (keys, given[:, :2]))
        order = np.argsort(code)
        values[order[np.searchsorted(code, wanted, sorter=order)]] = given[:, 2]
    return values
