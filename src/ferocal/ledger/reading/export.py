"""Readings and traces with all of their context, as they are exported."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.runs import COUNTS
from ferocal.ledger.store import Ledger

_COLUMNS = (
    "bench", "configuration", "round", "visit", "known", "key", "run", "started_at", "workload",
    "metric", "unit", "value", "low", "high", "bound", "samples", "resolution", "statistic",
    "mark", "reason", "corrected_from", "correction_reason",
)  # fmt: skip
_VALUE = _COLUMNS.index("value")
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
    """Names of columns, and a row for each reading of a run that ended well, in order of time.

    Readings are as they were corrected, beside what they were; what could not be read has a mark
    instead of a value.
    """
    reading, absence = schema.reading.c, schema.absence.c
    none = sa.null()
    values = [
        reading.value, reading.low, reading.high, reading.bound, reading.samples,
        reading.resolution, reading.statistic, none, none, none, none,
    ]  # fmt: skip
    marks = [*(none for _ in range(7)), absence.mark, absence.reason, none, none]
    corrections = read_corrections(ledger)
    found = []
    for table, columns in ((schema.reading, values), (schema.absence, marks)):
        for row in ledger.rows(_long_query(table, columns)):
            order, cells = tuple(row[:4]), list(row[4:])
            corrected = corrections.get((cells[5], order[3]))
            if corrected is not None:
                cells[-2:] = cells[_VALUE], corrected.reason
                new = (corrected.value, corrected.low, corrected.high, corrected.bound)
                cells[_VALUE : _VALUE + 4] = new
            found.append((order, cells))
    # Unknown times come first, as nothing says where else they belong.
    found.sort(key=lambda item: item[0])
    return list(_COLUMNS), [cells for _, cells in found]


def _long_query(table: sa.Table, columns: list[Any]) -> sa.Select[Any]:
    """Rows of readings or of absences, behind what they are sorted by: time to metric."""
    run, visit, metric = schema.run.c, schema.visit.c, schema.metric.c
    name = sa.func.coalesce(visit.name, visit.uid)
    return (
        sa.select(
            visit.started_at, visit.id, run.position, metric.id, visit.bench, visit.configuration,
            visit.round, name, visit.known, run.id, run.uid, run.started_at, metric.workload,
            metric.name, metric.unit, *columns,
        )
        .join_from(table, schema.run).join(schema.visit).join(schema.metric)
        .where(*COUNTS)
    )  # fmt: skip


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
