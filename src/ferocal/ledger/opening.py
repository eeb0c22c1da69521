"""Opening a ledger: creating its tables, checking its version."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import SQLAlchemyError

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.store import Ledger, cause

LEDGER_FILE = "ledger.sqlite"


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
    sa.event.listen(engine, "begin", lambda connection: connection.exec_driver_sql("BEGIN"))
    try:
        if create:
            _create_tables(engine)
        _upgrade(engine)
        _check_version(engine, path)
    except SQLAlchemyError as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {cause(error)}") from error
    return Ledger(engine, path)


def _configure_sqlite(connection: Any, _record: Any) -> None:
    # The driver would begin transactions by itself, but not before CREATE TABLE: a process
    # killed then would leave a ledger without its version. The engine begins them instead.
    connection.isolation_level = None
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


def _upgrade(engine: sa.Engine) -> None:
    """Bring a ledger of an earlier version to this one, in one transaction."""
    query = sa.select(schema.about.c.value).where(schema.about.c.key == "schema")
    with engine.begin() as connection:
        if connection.scalar(query) != "1":
            return
        # Version 2 counts samples, and keeps ranges, noise floors and traces.
        for name in ("samples INTEGER", "low FLOAT", "high FLOAT", "resolution FLOAT"):
            connection.exec_driver_sql(f"ALTER TABLE reading ADD COLUMN {name}")
        for name in ("kind VARCHAR(10) NOT NULL DEFAULT 'measure'", "source TEXT", "digest TEXT"):
            connection.exec_driver_sql(f"ALTER TABLE session ADD COLUMN {name}")
        connection.exec_driver_sql("ALTER TABLE visit ADD COLUMN known BOOLEAN NOT NULL DEFAULT 1")
        schema.floor.create(connection)
        schema.trace.create(connection)
        version = {"value": str(schema.SCHEMA_VERSION)}
        connection.execute(sa.update(schema.about).where(schema.about.c.key == "schema"), version)


def _check_version(engine: sa.Engine, path: Path) -> None:
    query = sa.select(schema.about.c.value).where(schema.about.c.key == "schema")
    with engine.connect() as connection:
        version = connection.scalar(query)
    if version is None or int(version) > schema.SCHEMA_VERSION:
        raise LedgerError(
            f"{path}: has schema version {version}, this Ferocal reads up to "
            f"{schema.SCHEMA_VERSION}; use a newer Ferocal"
        )
