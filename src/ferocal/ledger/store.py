"""The ledger: opening it, recording visits and runs, reading them back."""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import json
import sqlite3
import uuid
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType
from typing import Any, Self, cast

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray
from sqlalchemy.exc import SQLAlchemyError

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.packing import pack_trace
from ferocal.ledger.records import (
    SETTLED,
    Ending,
    FloorRecord,
    Outcome,
    SessionRecord,
    Slot,
    StepRecord,
    VisitRecord,
    pack,
)

FloatArray = NDArray[np.float64]


def now() -> str:
    """The time as ISO 8601 text in UTC."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class Ledger:
    """Everything recorded in a study; append-only but for the ending of open runs.

    Methods raise `LedgerError` when the store cannot be read or written.
    """

    def __init__(self, engine: sa.Engine, path: Path) -> None:
        self._engine = engine
        self.path = path
        self._metric_ids: dict[tuple[str, str, str], int] = {}
        self._session_id: int | None = None
        self._open: sa.Connection | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._engine.dispose()

    def begin_session(self, session: SessionRecord) -> None:
        """Record that `measure` was called; visits that follow belong to it."""
        self._session_id = self.insert(schema.session, started_at=now(), **vars(session))

    def begin_visit(self, visit: VisitRecord) -> int:
        """Record the beginning of a visit; returns its key."""
        values = {**vars(visit), "levels": dict(visit.levels)}
        facts = values.pop("facts")
        with self.transaction() as connection:
            key = facts_id(connection, facts)
            return self.insert(
                schema.visit,
                connection,
                **values,
                session_id=self._session_id,
                started_at=now(),
                facts_id=key,
            )

    def end_visit(self, visit_id: int) -> None:
        """Record that a visit has ended."""
        self._update(schema.visit, visit_id, ended_at=now())

    def set_aside(self, visit_id: int, checks: list[dict[str, Any]]) -> None:
        """Mark a visit as not active, with the checks that failed during or after it."""
        self._update(schema.visit, visit_id, state="not active", checks=checks, ended_at=now())

    def record_step(self, step: StepRecord) -> None:
        """Record what was done to the bench."""
        output = None if step.output is None else pack(step.output)
        self.insert(schema.step, at=now(), **{**vars(step), "output": output})

    def record_look(self, round: int, limit: int) -> None:
        """Record a look at the results of a sequential study."""
        self.insert(schema.look, at=now(), round=round, limit=limit)

    def record_floors(self, floors: Sequence[FloorRecord]) -> None:
        """Record noise floors from another study, all or none."""
        self.insert_all(schema.floor, [dict(vars(floor)) for floor in floors])

    def begin_run(self, visit_id: int, slot: Slot, position: int, *, warmup: bool) -> int:
        """Record that a run has begun, at a position in its visit; returns its key."""
        return self.insert(
            schema.run,
            visit_id=visit_id,
            workload=slot.workload,
            number=slot.number,
            warmup=warmup,
            position=position,
            started_at=now(),
            outcome=Outcome.RUNNING,
        )

    def end_run(self, run_id: int, ending: Ending) -> None:
        """Record how a run ended, with readings and output, in one transaction."""
        with self.transaction() as connection:
            connection.execute(
                sa.update(schema.run)
                .where(schema.run.c.id == run_id)
                .values(
                    outcome=ending.outcome,
                    reason=ending.reason,
                    wall=ending.wall,
                    exit_status=ending.exit_status,
                    conditions=ending.conditions,
                )
            )
            for value in ending.values:
                metric_id = self.metric_id(connection, value.workload, value.metric, value.unit)
                connection.execute(
                    sa.insert(schema.reading).values(
                        run_id=run_id,
                        metric_id=metric_id,
                        value=value.value,
                        samples=value.samples,
                        low=value.low,
                        high=value.high,
                        resolution=value.resolution,
                    )
                )
            for number, trace in enumerate(ending.traces, 1):
                self.insert(schema.trace, connection, run_id=run_id, **pack_trace(trace, number))
            for stream, (content, size) in ending.streams.items():
                connection.execute(
                    sa.insert(schema.output).values(
                        run_id=run_id, stream=stream, size=size, content=pack(content)
                    )
                )

    def close_interrupted(self, reason: str = "Ferocal was ended during this run") -> int:
        """Mark runs that were never ended as interrupted; returns how many."""
        with self.transaction() as connection:
            result = connection.execute(
                sa.update(schema.run)
                .where(schema.run.c.outcome == Outcome.RUNNING)
                .values(outcome=Outcome.INTERRUPTED, reason=reason)
            )
            return result.rowcount

    def settled(self, *, failures: bool) -> set[Slot]:
        """Places of the plan that need no further run; ``failures`` count as settled or not."""
        outcomes = SETTLED if failures else (Outcome.OK,)
        visit, run = schema.visit.c, schema.run.c
        query = (
            sa.select(visit.round, visit.configuration, run.workload, run.number)
            .join_from(schema.run, schema.visit)
            .where(run.outcome.in_(outcomes), sa.not_(run.warmup), visit.state == "active")
        )
        return {Slot(*row) for row in self.rows(query)}

    def insert(
        self, table: sa.Table, connection: sa.Connection | None = None, **values: Any
    ) -> int:
        """Insert a row with a new uid, in a transaction of its own if none is given."""
        if connection is None:
            with self.transaction() as own:
                return self.insert(table, own, **values)
        return _key(connection.execute(sa.insert(table).values(uid=uuid.uuid4().hex, **values)))

    def _update(self, table: sa.Table, key: int, **values: Any) -> None:
        with self.transaction() as connection:
            connection.execute(sa.update(table).where(table.c.id == key).values(**values))

    def rows(self, query: sa.Select[Any]) -> list[Any]:
        """All rows of a query."""
        try:
            with self._engine.connect() as connection:
                return list(connection.execute(query))
        except SQLAlchemyError as error:
            raise LedgerError(f"{self.path}: cannot be read: {cause(error)}") from error

    def numbers(self, query: sa.Select[Any], columns: int) -> FloatArray:
        """All rows of a query of numbers, none of them missing, shape (n, columns)."""
        try:
            with self._engine.connect() as connection:
                # Rows of the driver itself: there may be a million.
                rows = cast("Iterable[tuple[float, ...]]", connection.execute(query).cursor)
                flat = np.fromiter(itertools.chain.from_iterable(rows), dtype=np.float64)
        except (SQLAlchemyError, sqlite3.Error) as error:
            raise LedgerError(f"{self.path}: cannot be read: {cause(error)}") from error
        return flat.reshape(-1, columns)

    def mappings(self, query: sa.Select[Any]) -> list[dict[str, Any]]:
        """All rows of a query, each with the names of its columns."""
        return [dict(row._mapping) for row in self.rows(query)]

    def insert_all(self, table: sa.Table, rows: list[dict[str, Any]]) -> None:
        """Insert rows, each with a new uid and the time, all or none."""
        with self.transaction() as connection:
            for row in rows:
                self.insert(table, connection, at=now(), **row)

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """What is written within is written as a whole, in one transaction."""
        with self.transaction() as connection:
            self._open = connection
            try:
                yield
            finally:
                self._open = None

    @contextlib.contextmanager
    def transaction(self) -> Iterator[sa.Connection]:
        """A transaction; what fails in it leaves the ledger as it was."""
        if self._open is not None:
            yield self._open
            return
        try:
            with self._engine.begin() as connection:
                yield connection
        except SQLAlchemyError as error:
            raise LedgerError(
                f"{self.path}: cannot be written: {cause(error)}; what was recorded before is kept"
            ) from error

    def metric_id(self, connection: sa.Connection, workload: str, name: str, unit: str) -> int:
        """The key of a metric, which is made if it is new."""
        key = (workload, name, unit)
        if key not in self._metric_ids:
            columns = schema.metric.c
            same = (columns.workload == workload, columns.name == name, columns.unit == unit)
            found = connection.scalar(sa.select(columns.id).where(*same))
            if found is None:
                row = {"workload": workload, "name": name, "unit": unit}
                found = _key(connection.execute(sa.insert(schema.metric).values(row)))
            self._metric_ids[key] = found
        return self._metric_ids[key]


def _key(inserted: sa.CursorResult[Any]) -> int:
    key = inserted.inserted_primary_key
    assert key is not None
    return int(key[0])


def facts_id(connection: sa.Connection, content: list[dict[str, Any]]) -> int:
    """The key of a set of facts, which is recorded if it is new."""
    digest = hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()
    columns = schema.facts.c
    found = connection.scalar(sa.select(columns.id).where(columns.digest == digest))
    if found is not None:
        return int(found)
    return _key(connection.execute(sa.insert(schema.facts).values(digest=digest, content=content)))


def cause(error: Exception) -> str:
    """What the database itself said."""
    return str(getattr(error, "orig", None) or error)
