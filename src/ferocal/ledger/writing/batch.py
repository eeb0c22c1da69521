"""Many readings together: visits, runs and readings in one transaction."""

from __future__ import annotations

import itertools
import json
import secrets
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import field
from typing import Any

import numpy as np
import sqlalchemy as sa

from ferocal.ledger import schema, tables
from ferocal.ledger.reading.runs import ID_LENGTH
from ferocal.ledger.records import Outcome, SessionRecord
from ferocal.ledger.writing.keys import MetricKeys, facts_key
from ferocal.ledger.writing.store import WritableLedger, insert_rows
from ferocal.terms.conditions import AMBIENT
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import now
from ferocal.traces.capture import Trace
from ferocal.traces.packing import pack_trace

# So many rows are handed to the driver at one time.
_PART = 50_000


@dataclass(frozen=True)
class BatchVisit:
    """A visit to be recorded, or with a ``key`` one that is in the ledger already.

    ``started_at`` is "" if unknown. ``known`` says whether it is known which runs belong to
    it, ``name`` is what people call it. ``checks``, ``facts`` and ``subjects`` are JSON values.
    """

    bench: str
    configuration: str
    levels: dict[str, str]
    round: int | None
    started_at: str
    known: bool
    name: str | None = None
    key: int | None = None
    checks: list[dict[str, Any]] = field(default_factory=list)
    facts: list[dict[str, Any]] = field(default_factory=list)
    subjects: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class BatchAbsence:
    """A reading that could not be taken: places of run and metric, how that is called, why."""

    run: int
    metric: int
    mark: str
    reason: str | None


@dataclass(frozen=True)
class Batch:
    """Readings to be recorded, with the runs and visits that they are of.

    ``run_visit`` and ``reading_run`` are places in the lists
    above them, ``reading_metric`` in ``metrics`` (workload, name, unit); ``run_uid`` is ""
    for runs without an id. ``columns`` are value, samples, low, high and resolution of the
    readings, NaN where there is none; ``texts`` their bound and statistic, "" where there is none,
    None where none has one.
    ``traces`` have the place of their run and the number of the capture, ``notes`` the place of
    theirs, −1 for none, and their source. ``run_ambient`` has the temperature around the bench (°C)
    by place of the run.
    """

    visits: list[BatchVisit]
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
    texts: list[list[str] | None]
    absences: list[BatchAbsence]
    traces: list[tuple[int, int, Trace]]
    notes: list[tuple[int, str, str]] = field(default_factory=list)
    run_ambient: dict[int, float] = field(default_factory=dict)

    @property
    def counts(self) -> dict[str, int]:
        """How many visits, runs, readings and traces there are."""
        return {
            "visits": sum(visit.key is None for visit in self.visits),
            "runs": len(self.run_workload),
            "readings": len(self.reading_run),
            "traces": len(self.traces),
            "absences": len(self.absences),
        }


def record_batch(ledger: WritableLedger, session: SessionRecord, batch: Batch) -> None:
    """Record all of a batch, or nothing.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    with ledger.transaction() as connection:
        session_id = ledger.insert(tables.SESSION, connection, started_at=now(), **vars(session))
        visits = _insert_visits(ledger, connection, batch, session_id)
        first_run = _insert_runs(ledger, connection, batch, visits)
        _insert_readings(ledger, connection, batch, first_run)
        for run, number, trace in batch.traces:
            packed = pack_trace(trace, number)
            ledger.insert(tables.TRACE, connection, run_id=first_run + run, **packed)


def _next_key(connection: sa.Connection, table: tables.Table) -> int:
    query = f"SELECT max(id) FROM {table.name}"
    return int(connection.exec_driver_sql(query).scalar() or 0) + 1


def _uids(count: int) -> Iterator[str]:
    """Unique ids that ascend, which an index takes many times faster than random ones.

    They differ in their beginnings, by which people name runs.
    """
    start, tail = secrets.randbelow(2**40 - count), secrets.token_hex(11)
    return (f"{start + n:010x}{tail}" for n in range(count))


def _insert_visits(
    ledger: WritableLedger, connection: sa.Connection, batch: Batch, session: int
) -> np.ndarray:
    """The keys of the visits; those that are there receive what was unknown about them."""
    none = facts_key(ledger, connection, [])
    first = _next_key(connection, tables.VISIT)
    keys = np.zeros(len(batch.visits), dtype=np.int64)
    rows: list[dict[str, Any]] = []
    for n, (uid, visit) in enumerate(zip(_uids(len(batch.visits)), batch.visits, strict=True)):
        if visit.key is not None:
            keys[n] = visit.key
            _learn(connection, visit)
            ledger.touch(tables.VISIT, visit.key)
            continue
        keys[n] = first + len(rows)
        values = {k: v for k, v in vars(visit).items() if k not in ("key", "facts")}
        rows.append(
            {
                **values,
                "id": int(keys[n]),
                "uid": uid,
                "session_id": session,
                "position": n + 1,
                "switching": 0.0,
                "state": "active",
                "remarks": [],
                "facts_id": facts_key(ledger, connection, visit.facts) if visit.facts else none,
            }
        )
    insert_rows(connection, tables.VISIT, rows)
    if rows:
        ledger.touch(tables.VISIT, first, first + len(rows) - 1)
    return keys


def _learn(connection: sa.Connection, visit: BatchVisit) -> None:
    """Complete an existing visit with a round or a time that was unknown."""
    c = schema.visit.c
    learned: dict[str, tuple[Any, Any]] = {"round": (visit.round, c.round.is_(None))}
    learned["started_at"] = (visit.started_at or None, c.started_at == "")
    for name, (value, unknown) in learned.items():
        if value is not None:
            change = sa.update(schema.visit).where(c.id == visit.key, unknown)
            connection.execute(change.values({name: value}))


def _insert_runs(
    ledger: WritableLedger, connection: sa.Connection, batch: Batch, visits: np.ndarray
) -> int:
    first, time = _next_key(connection, tables.RUN), now()
    columns = "id, uid, visit_id, workload, number, position, started_at, conditions, warmup"
    insert = (
        f"INSERT INTO run ({columns}, outcome) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 0, '{Outcome.OK}')"
    )
    kept: list[str] = []
    uids = _uids(len(batch.run_workload))
    positions, numbers = _continue_visits(connection, batch)
    for part in _parts(len(batch.run_workload)):
        places = range(part.start, part.stop)
        of_part = [uid or next(uids) for uid in batch.run_uid[part]]
        if batch.notes:
            kept += of_part
        rows = zip(
            [first + n for n in places],
            of_part,
            visits[batch.run_visit[part]].tolist(),
            batch.run_workload[part],
            numbers[part].tolist(),
            positions[part].tolist(),
            batch.run_started[part],
            _conditions(batch, places),
            strict=True,
        )
        connection.exec_driver_sql(insert, list(rows))
    _insert_notes(ledger, connection, batch, kept)
    marks = [
        {"run_id": first + n, "excluded": True, "reason": reason, "at": time, "uid": uid}
        for n, (reason, uid) in enumerate(
            zip(batch.run_excluded, _uids(len(batch.run_excluded)), strict=True)
        )
        if reason
    ]
    if marks:
        first_mark = _next_key(connection, tables.MARK)
        insert_rows(connection, tables.MARK, marks)
        ledger.touch(tables.MARK, first_mark, first_mark + len(marks) - 1)
    if batch.run_workload:
        ledger.touch(tables.RUN, first, first + len(batch.run_workload) - 1)
    return first


def _conditions(batch: Batch, places: range) -> Iterable[str | None]:
    """The conditions of runs as JSON, None where nothing is known."""
    if not batch.run_ambient:
        return itertools.repeat(None, len(places))
    known = (batch.run_ambient.get(n) for n in places)
    return [None if t is None else json.dumps({"before": {AMBIENT: t}, "after": {}}) for t in known]


def _insert_notes(
    ledger: WritableLedger, connection: sa.Connection, batch: Batch, uids: Sequence[str]
) -> None:
    for run, text, source in batch.notes:
        name = uids[run][:ID_LENGTH] if run >= 0 else None
        values = {"text": text or source, "run": name, "source": (source or None) if text else None}
        ledger.insert(tables.NOTE, connection, at=now(), **values)


def _continue_visits(connection: sa.Connection, batch: Batch) -> tuple[np.ndarray, np.ndarray]:
    """Positions and numbers of the runs, behind those of visits that are there already."""
    positions = np.arange(1, len(batch.run_workload) + 1)
    numbers = np.array(batch.run_number, dtype=np.int64)
    there = {n: visit.key for n, visit in enumerate(batch.visits) if visit.key is not None}
    if not there:
        return positions, numbers
    run = schema.run.c
    query = sa.select(
        run.visit_id, run.workload, sa.func.max(run.number), sa.func.max(run.position)
    ).where(run.visit_id.in_(there.values()))
    last_number: dict[tuple[int, str], int] = {}
    last_position: dict[int, int] = {}
    for visit, workload, number, position in connection.execute(
        query.group_by(run.visit_id, run.workload)
    ):
        last_number[visit, workload] = number
        last_position[visit] = max(position, last_position.get(visit, 0))
    for n, visit in enumerate(batch.run_visit.tolist()):
        if visit in there:
            positions[n] += last_position.get(there[visit], 0)
            numbers[n] += last_number.get((there[visit], batch.run_workload[n]), 0)
    return positions, numbers


def _insert_readings(
    ledger: WritableLedger, connection: sa.Connection, batch: Batch, first_run: int
) -> None:
    metrics = MetricKeys(ledger)
    keys = np.zeros(len(batch.metrics), dtype=np.int64)
    used = {*np.unique(batch.reading_metric).tolist(), *(gap.metric for gap in batch.absences)}
    for n in sorted(used):
        keys[n] = metrics.key(connection, *batch.metrics[n])
    insert = (
        "INSERT INTO reading (run_id, metric_id, value, samples, low, high, resolution, bound, "
        "statistic) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
    )
    for part in _parts(len(batch.reading_run)):
        count = part.stop - part.start
        rows = zip(
            (batch.reading_run[part] + first_run).tolist(),
            keys[batch.reading_metric[part]].tolist(),
            batch.columns[0][part].tolist(),
            *(_or_none(column[part]) for column in batch.columns[1:]),
            *(
                [None] * count if texts is None else [text or None for text in texts[part]]
                for texts in batch.texts
            ),
            strict=True,
        )
        connection.exec_driver_sql(insert, list(rows))
    gaps = [
        {
            "run_id": first_run + gap.run,
            "metric_id": int(keys[gap.metric]),
            "mark": gap.mark,
            "reason": gap.reason,
        }
        for gap in batch.absences
    ]
    insert_rows(connection, tables.ABSENCE, gaps)


def _parts(count: int, size: int = _PART) -> list[slice]:
    """So many rows in parts: the driver takes plain rows, and there may be a million."""
    return [slice(n, min(n + size, count)) for n in range(0, count, size)]


def _or_none(numbers: np.ndarray) -> list[float | None]:
    if np.isnan(numbers).all():
        return [None] * len(numbers)
    return [None if number != number else number for number in numbers.tolist()]
