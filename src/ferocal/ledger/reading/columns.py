"""Readings in bulk, as columns of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray

from ferocal.ledger import schema
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
    (NaN where unknown), ``width`` half of the range in which it was read, mostly 0.
    ``excluded`` counts the runs that are marked as not to be used.
    """

    run: IntArray
    metric: IntArray
    visit: IntArray
    position: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
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
    metric = schema.metric.c
    metrics = sa.select(metric.id, metric.workload, metric.name, metric.unit)
    return ReadingColumns(
        run=keys[valid, 0],
        metric=keys[valid, 1],
        visit=runs[place, 1],
        position=runs[place, 2],
        value=readings[valid, 2],
        samples=_sparse(ledger, keys, reading.samples, np.nan)[valid],
        width=_sparse(ledger, keys, (reading.high - reading.low) / 2, 0.0)[valid],
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=visits,
        excluded=len(excluded),
    )


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
