"""Many readings at once: visits, runs and readings in one transaction."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Outcome, SessionRecord
from ferocal.ledger.store import Ledger, now
from ferocal.ledger.writing.keys import MetricKeys, facts_key
from ferocal.traces.capture import Trace
from ferocal.traces.packing import pack_trace

# So many rows are handed to the driver at one time.
_PART = 50_000
Visit = tuple[str, str, dict[str, str], int | None, str, bool]


@dataclass(frozen=True)
class Batch:
    """Readings to be recorded, with the runs and visits that they are of.

    ``visits`` are bench, configuration, levels, round, time ("" if unknown), and whether it is
    known which runs belong to it. ``run_visit`` and ``reading_run`` are places in the lists
    above them, ``reading_metric`` in ``metrics`` (workload, name, unit); ``run_uid`` is ""
    for runs without an id. ``columns`` are value, samples, low, high and resolution of the
    readings, NaN where there is none.
    ``traces`` have the place of their run and the number of the capture.
    """

    visits: list[Visit]
    run_visit: np.ndarray
    run_uid: list[str]
    run_workload: list[str]
    run_number: list[int]
    run_started: list[str]
    run_excluded: list[str]
    metrics: list[tuple[str, str, str]]
    reading_run: np.ndarray
    reading_metric: np.ndarray
    columns: list[np.ndarray]
    traces: list[tuple[int, int, Trace]]
    subjects: dict[str, Any] = field(default_factory=dict)

    @property
    def counts(self) -> dict[str, int]:
        """How many visits, runs, readings and traces there are."""
        return {
            "visits": len(self.visits),
            "runs": len(self.run_workload),
            "readings": len(self.reading_run),
            "traces": len(self.traces),
        }


def record_batch(ledger: Ledger, session: SessionRecord, batch: Batch) -> None:
    """Record all of a batch, or nothing.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    with ledger.transaction() as connection:
        session_id = ledger.insert(schema.session, connection, started_at=now(), **vars(session))
        facts = facts_key(connection, [])
        first_visit = _insert_visits(connection, batch, session_id, facts)
        first_run = _insert_runs(connection, batch, first_visit)
        _insert_readings(connection, batch, first_run)
        for run, number, trace in batch.traces:
            packed = pack_trace(trace, number)
            ledger.insert(schema.trace, connection, run_id=first_run + run, **packed)


def _next_key(connection: sa.Connection, table: sa.Table) -> int:
    return int(connection.scalar(sa.select(sa.func.max(table.c.id))) or 0) + 1


def _uids(count: int) -> Iterator[str]:
    """Unique ids that ascend, which an index takes many times faster than random ones.

    They differ in their beginnings, by which people name runs.
    """
    start, tail = secrets.randbelow(2**40 - count), secrets.token_hex(11)
    return (f"{start + n:010x}{tail}" for n in range(count))


def _insert_visits(connection: sa.Connection, batch: Batch, session: int, facts: int) -> int:
    first, time = _next_key(connection, schema.visit), now()
    rows: list[dict[str, Any]] = [
        {
            "id": first + n,
            "uid": uid,
            "session_id": session,
            "bench": bench,
            "configuration": name,
            "levels": levels,
            "round": number,
            "position": n + 1,
            "started_at": at or time,
            "switching": 0.0,
            "state": "active",
            "checks": [],
            "subjects": batch.subjects,
            "remarks": [],
            "facts_id": facts,
            "known": known,
        }
        for n, (uid, (bench, name, levels, number, at, known)) in enumerate(
            zip(_uids(len(batch.visits)), batch.visits, strict=True)
        )
    ]
    connection.execute(sa.insert(schema.visit), rows)
    return first


def _insert_runs(connection: sa.Connection, batch: Batch, first_visit: int) -> int:
    first, time = _next_key(connection, schema.run), now()
    columns = "id, uid, visit_id, workload, number, warmup, position, started_at, outcome"
    insert = f"INSERT INTO run ({columns}) VALUES (?, ?, ?, ?, ?, 0, ?, ?, '{Outcome.OK}')"
    uids = _uids(len(batch.run_workload))
    for part in _parts(len(batch.run_workload)):
        places = range(part.start, part.stop)
        rows = zip(
            [first + n for n in places],
            [uid or next(uids) for uid in batch.run_uid[part]],
            (batch.run_visit[part] + first_visit).tolist(),
            batch.run_workload[part],
            batch.run_number[part],
            [n + 1 for n in places],
            [at or time for at in batch.run_started[part]],
            strict=True,
        )
        connection.exec_driver_sql(insert, list(rows))
    marks = [
        {"run_id": first + n, "excluded": True, "reason": reason, "at": time, "uid": uid}
        for n, (reason, uid) in enumerate(
            zip(batch.run_excluded, _uids(len(batch.run_excluded)), strict=True)
        )
        if reason
    ]
    if marks:
        connection.execute(sa.insert(schema.mark), marks)
    return first


def _insert_readings(connection: sa.Connection, batch: Batch, first_run: int) -> None:
    used, metrics = np.unique(batch.reading_metric), MetricKeys()
    keys = np.zeros(len(batch.metrics), dtype=np.int64)
    for n in used.tolist():
        keys[n] = metrics.key(connection, *batch.metrics[n])
    insert = (
        "INSERT INTO reading (run_id, metric_id, value, samples, low, high, resolution) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)"
    )
    for part in _parts(len(batch.reading_run)):
        rows = zip(
            (batch.reading_run[part] + first_run).tolist(),
            keys[batch.reading_metric[part]].tolist(),
            batch.columns[0][part].tolist(),
            *(_or_none(column[part]) for column in batch.columns[1:]),
            strict=True,
        )
        connection.exec_driver_sql(insert, list(rows))


def _parts(count: int, size: int = _PART) -> list[slice]:
    """So many rows in parts: the driver takes plain rows, and there may be a million."""
    return [slice(n, min(n + size, count)) for n in range(0, count, size)]


def _or_none(numbers: np.ndarray) -> list[float | None]:
    if np.isnan(numbers).all():
        return [None] * len(numbers)
    return [None if number != number else number for number in numbers.tolist()]
