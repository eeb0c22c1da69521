"""Readings and traces with all of their context, as they are exported."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from ferocal.ledger import tables
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.sql import COUNTS, of_runs
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass

_COLUMNS = (
    "bench", "configuration", "round", "visit", "known", "key", "run", "started_at", "workload",
    "metric", "unit", "value", "low", "high", "bound", "samples", "resolution", "statistic",
    "mark", "reason", "corrected_from", "correction_reason",
)  # fmt: skip
_VALUE = _COLUMNS.index("value")
_KNOWN = _COLUMNS.index("known")
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
    values = "value, low, high, bound, samples, resolution, statistic, NULL, NULL, NULL, NULL"
    marks = f"{'NULL, ' * 7} mark, absence.reason, NULL, NULL"
    corrections = read_corrections(ledger)
    found = []
    for table, columns in ((tables.READING, values), (tables.ABSENCE, marks)):
        for row in ledger.rows(_long_query(table, columns)):
            order, cells = row[:4], list(row[4:])
            cells[_KNOWN] = bool(cells[_KNOWN])
            corrected = corrections.get((cells[5], order[3]))
            if corrected is not None:
                cells[-2:] = cells[_VALUE], corrected.reason
                new = (corrected.value, corrected.low, corrected.high, corrected.bound)
                cells[_VALUE : _VALUE + 4] = new
            found.append((order, cells))
    # Unknown times come first, as nothing says where else they belong.
    found.sort(key=lambda item: item[0])
    return list(_COLUMNS), [cells for _, cells in found]


def _long_query(table: tables.Table, columns: str) -> str:
    """Rows of readings or of absences, behind what they are sorted by: time to metric."""
    return (
        "SELECT visit.started_at, visit.id, run.position, metric.id, visit.bench, "
        "visit.configuration, visit.round, coalesce(visit.name, visit.uid), visit.known, run.id, "
        "run.uid, run.started_at, metric.workload, metric.name, metric.unit, "
        f"{columns} FROM {of_runs(table)} WHERE {COUNTS}"
    )


def read_trace_rows(ledger: Ledger) -> Iterator[TraceOfRun]:
    """Every capture of a run that ended well, in the order in which they were recorded."""
    query = (
        "SELECT trace.id, run.id, visit.bench, visit.configuration, run.workload, trace.metric, "
        "run.uid, trace.number, visit.round, visit.uid, visit.known, run.started_at, trace.kind, "
        f"trace.unit FROM {of_runs(tables.TRACE)} WHERE {COUNTS} ORDER BY trace.id"
    )
    for key, run_key, *values in ledger.rows(query):
        context = dict(zip(_CONTEXT, values, strict=True))
        context["known"] = bool(context["known"])

        def content(key: int = key) -> bytes:
            packed: bytes = ledger.rows("SELECT content FROM trace WHERE id = ?", [key])[0][0]
            return packed

        yield TraceOfRun(run_key, context, content)
