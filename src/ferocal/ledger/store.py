"""The ledger: opening it, recording visits and runs, reading them back."""

from __future__ import annotations

import contextlib
import hashlib
import json
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import sqlalchemy as sa
from sqlalchemy.exc import SQLAlchemyError

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.records import SETTLED, Ending, Outcome, Slot, VisitRecord, pack

LEDGER_FILE = "ledger.sqlite"


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

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._engine.dispose()

    def begin_visit(self, visit: VisitRecord) -> int:
        """Record the beginning of a visit; returns its key."""
        with self._transaction() as connection:
            inserted = connection.execute(
                sa.insert(schema.visit).values(
                    uid=uuid.uuid4().hex,
                    bench=visit.bench,
                    configuration=visit.configuration,
                    levels=dict(visit.levels),
                    round=visit.round,
                    position=visit.position,
                    started_at=now(),
                    state=visit.state,
                    checks=[dict(check) for check in visit.checks],
                    facts_id=_facts_id(connection, dict(visit.facts)),
                )
            )
            return _key(inserted)

    def begin_run(self, visit_id: int, slot: Slot, *, warmup: bool) -> int:
        """Record that a run has begun; returns its key."""
        with self._transaction() as connection:
            inserted = connection.execute(
                sa.insert(schema.run).values(
                    uid=uuid.uuid4().hex,
                    visit_id=visit_id,
                    workload=slot.workload,
                    number=slot.number,
                    warmup=warmup,
                    started_at=now(),
                    outcome=Outcome.RUNNING,
                )
            )
            return _key(inserted)

    def end_run(self, run_id: int, ending: Ending) -> None:
        """Record how a run ended, with readings and output, in one transaction."""
        with self._transaction() as connection:
            connection.execute(
                sa.update(schema.run)
                .where(schema.run.c.id == run_id)
                .values(outcome=ending.outcome, reason=ending.reason, wall=ending.wall)
            )
            for value in ending.values:
                metric_id = self._metric_id(connection, value.workload, value.metric, value.unit)
                connection.execute(
                    sa.insert(schema.reading).values(
                        run_id=run_id, metric_id=metric_id, value=value.value
                    )
                )
            for stream, (content, size) in ending.streams.items():
                connection.execute(
                    sa.insert(schema.output).values(
                        run_id=run_id, stream=stream, size=size, content=pack(content)
                    )
                )

    def close_interrupted(self) -> int:
        """Mark runs that were never ended as interrupted; returns how many."""
        with self._transaction() as connection:
            result = connection.execute(
                sa.update(schema.run)
                .where(schema.run.c.outcome == Outcome.RUNNING)
                .values(outcome=Outcome.INTERRUPTED, reason="Ferocal was ended during this run")
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

    def rows(self, query: sa.Select[Any]) -> list[Any]:
        """All rows of a query."""
        try:
            with self._engine.connect() as connection:
                return list(connection.execute(query))
        except SQLAlchemyError as error:
            raise LedgerError(f"{self.path}: cannot be read: {_cause(error)}") from error

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except SQLAlchemyError as error:
            raise LedgerError(
                f"{self.path}: cannot be written: {_cause(error)}; what was recorded before is kept"
            ) from error

    def _metric_id(self, connection: sa.Connection, workload: str, name: str, unit: str) -> int:
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


def _facts_id(connection: sa.Connection, content: dict[str, Any]) -> int:
    digest = hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()
    columns = schema.facts.c
    found = connection.scalar(sa.select(columns.id).where(columns.digest == digest))
    if found is not None:
        return int(found)
    return _key(connection.execute(sa.insert(schema.facts).values(digest=digest, content=content)))


def _cause(error: SQLAlchemyError) -> str:
    return str(getattr(error, "orig", None) or error)


def open_ledger(directory: Path, *, create: bool = False) -> Ledger:
    """Open the ledger of a study.

    Raises
    ------
    LedgerError
        When there is none and ``create`` is false, when it cannot be read, or when it
        was written by a newer Ferocal.
    """
    path = directory / LEDGER_FILE
    if not create and not path.exists():
        raise LedgerError(f"{path}: nothing recorded yet; take readings with `ferocal measure`")
    engine = sa.create_engine(f"sqlite:///{path}")
    sa.event.listen(engine, "connect", _configure_sqlite)
    try:
        if create:
            _create_tables(engine)
        _check_version(engine, path)
    except SQLAlchemyError as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {_cause(error)}") from error
    return Ledger(engine, path)


def _configure_sqlite(connection: Any, _record: Any) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA foreign_keys = ON")
    cursor.execute("PRAGMA busy_timeout = 10000")
    # The rollback journal keeps the ledger in one file that can be carried elsewhere.
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.close()


def _create_tables(engine: sa.Engine) -> None:
    with engine.begin() as connection:
        if sa.inspect(connection).has_table("about"):
            return
        schema.metadata.create_all(connection)
        row = {"key": "schema", "value": str(schema.SCHEMA_VERSION)}
        connection.execute(sa.insert(schema.about).values(row))


def _check_version(engine: sa.Engine, path: Path) -> None:
    query = sa.select(schema.about.c.value).where(schema.about.c.key == "schema")
    with engine.connect() as connection:
        version = connection.scalar(query)
    if version is None or int(version) > schema.SCHEMA_VERSION:
        raise LedgerError(
            f"{path}: has schema version {version}, this Ferocal reads up to "
            f"{schema.SCHEMA_VERSION}; use a newer Ferocal"
        )
