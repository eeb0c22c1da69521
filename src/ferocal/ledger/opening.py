"""Opening a ledger: creating its tables, bringing it to the present version."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from pathlib import Path

import sqlalchemy as sa

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.connecting import patient_engine
from ferocal.ledger.integrity import memory
from ferocal.ledger.integrity.check import describe, find_broken, is_excluded
from ferocal.ledger.integrity.seals import (
    CHANGED,
    SEALED_AT,
    Broken,
    driver_of,
    seal_all,
)
from ferocal.ledger.store import STORE_ERRORS, WRITES, Ledger, cause, now
from ferocal.terms.wording import shortened

LEDGER_FILE = "ledger.sqlite"
_MOST_DIGITS = 9
_VERSION = sa.select(schema.about.c.value).where(schema.about.c.key == "schema")


def open_ledger(directory: Path, *, create: bool = False, checked: bool = True) -> Ledger:
    """Open the ledger of a study, which is checked as a whole unless it is to be repaired.

    Raises
    ------
    LedgerError
        When there is none and ``create`` is false, when it cannot be read or is damaged, or
        when it was written by a newer Ferocal.
    """
    path = directory / LEDGER_FILE
    if create:
        _keep_private(path)
    if not create and not path.exists():
        raise LedgerError(f"{path}: nothing recorded yet; take readings with `ferocal measure`")
    engine = patient_engine(path)
    try:
        if create:
            _create_tables(engine)
        _bring_up_to_date(engine, path)
        if checked:
            _check(engine, path)
    except STORE_ERRORS as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {cause(error)}") from error
    return Ledger(engine, path)


def _keep_private(path: Path) -> None:
    """Make an empty file that only its owner can read, before anything is written into it."""
    # What cannot be made is told when it is opened.
    with contextlib.suppress(OSError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))


def _create_tables(engine: sa.Engine) -> None:
    with engine.connect() as connection:
        if sa.inspect(connection).has_table("about"):
            return
    with engine.connect().execution_options(**{WRITES: True}) as connection, connection.begin():
        if sa.inspect(connection).has_table("about"):
            return  # another process was faster
        schema.metadata.create_all(connection)
        row = {"key": "schema", "value": str(schema.SCHEMA_VERSION)}
        connection.execute(sa.insert(schema.about).values(row))


def _bring_up_to_date(engine: sa.Engine, path: Path) -> None:
    with engine.connect() as connection:
        version = _version(connection, path)
    if version == schema.SCHEMA_VERSION:
        return
    from ferocal.ledger.migrations import migrate

    with engine.connect().execution_options(**{WRITES: True}) as connection, connection.begin():
        version = migrate(connection, _version(connection, path))
        change = sa.update(schema.about).where(schema.about.c.key == "schema")
        connection.execute(change.values(value=str(version)))
        # What was there before has no seals of its time; it is kept from now on.
        connection.execute(sa.delete(schema.about).where(schema.about.c.key == SEALED_AT))
        connection.execute(sa.insert(schema.about).values(key=SEALED_AT, value=now()))
        seal_all(connection)


def _check(engine: sa.Engine, path: Path) -> None:
    """Refuse a ledger that is damaged, unless only runs are that are excluded.

    Raises
    ------
    LedgerError
        When it is; the message names the first row, and what can be done.
    """
    if memory.is_known(path):
        return
    with engine.connect() as connection:
        # A transaction that has read keeps others from writing, until it ends.
        connection.execute(_VERSION)
        if memory.was_whole(path):
            return
        driver = driver_of(connection)
        broken = [b for b in find_broken(driver) if not is_excluded(driver, b)]
        if broken:
            raise LedgerError(f"{path}: {_damage(driver, broken)}")
        memory.remember(path)


def _damage(driver: sqlite3.Connection, broken: list[Broken]) -> str:
    first = describe(driver, broken[0])
    more = f" (and {len(broken) - 1} more)" if len(broken) > 1 else ""
    advice = "`ferocal inspect --integrity` lists all; bring the ledger back from a copy"
    if all(b.kind == "run" and b.what == CHANGED for b in broken):
        advice += ", or leave out what is damaged with `ferocal exclude`"
    return f"is damaged: {first}{more}; {advice}"


def _version(connection: sa.Connection, path: Path) -> int:
    """The version of a ledger.

    Raises
    ------
    LedgerError
        When it is not known, or newer than this program.
    """
    text = connection.scalar(_VERSION)
    known = isinstance(text, str) and text.isdecimal() and len(text) <= _MOST_DIGITS
    version = int(str(text)) if known else None
    if version is None or version > schema.SCHEMA_VERSION:
        raise LedgerError(
            f"{path}: has schema version {shortened(str(text), 20)}, this Ferocal reads up to "
            f"{schema.SCHEMA_VERSION}; use a newer Ferocal"
        )
    return version
