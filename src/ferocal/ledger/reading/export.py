"""Readings and traces with all of their context, as they are exported."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.reading.runs import COUNTS
from ferocal.ledger.store import Ledger

_COLUMNS = (
    "bench", "configuration", "round", "visit", "known", "key", "run", "started_at", "workload",
    "metric", "unit", "value", "low", "high", "samples", "resolution",
)  # fmt: skip
_CONTEXT = (
    "bench", "configuration", "workload", "metric", "run", "number", "round", "visit", "known",
    "started_at", "kind", "unit",
)  # fmt: skip


@dataclass(frozen=True)
class TraceOfRun:
    """A packed trace, read when asked for; ``run_key`` is the key of its run."""

    run_key: int
    context: dict[str, Any]
    content: Callable[[], bytes]


def read_long_rows(ledger: Ledger) -> tuple[list[str], list[Any]]:
    """Names of columns, and a row for each reading of a run that ended well, in order of time."""
    reading, run, visit, metric = (
        table.c for table in (schema.reading, schema.run, schema.visit, schema.metric)
    )
    query = (
        sa.select(
            visit.bench, visit.configuration, visit.round, visit.uid, visit.known,
            run.id, run.uid, run.started_at, metric.workload, metric.name, metric.unit,
            reading.value, reading.low, reading.high, reading.samples, reading.resolution,
        )
        .join_from(schema.reading, schema.run).join(schema.visit).join(schema.metric)
        .where(*COUNTS)
        .order_by(visit.started_at, visit.id, run.position, metric.id)
    )  # fmt: skip
    return list(_COLUMNS), ledger.rows(query)


def read_trace_rows(ledger: Ledger) -> Iterator[TraceOfRun]:
    """Every capture of a run that ended well, in the order in which they were recorded."""
    trace, run, visit = schema.trace.c, schema.run.c, schema.visit.c
    query = (
        sa.select(
            trace.id, run.id, visit.bench, visit.configuration, run.workload, trace.metric,
            run.uid, trace.number, visit.round, visit.uid, visit.known, run.started_at,
            trace.kind, trace.unit,
        )
        .join_from(schema.trace, schema.run).join(schema.visit)
        .where(*COUNTS)
        .order_by(trace.id)
    )  # fmt: skip
    for key, run_key, *context in ledger.rows(query):

        def content(key: int = key) -> bytes:
            packed: bytes = ledger.rows(sa.select(trace.content).where(trace.id == key))[0][0]
            return packed

        yield TraceOfRun(run_key, dict(zip(_CONTEXT, context, strict=True)), content)
