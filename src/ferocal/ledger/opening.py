"""Opening a ledger: creating its tables, bringing it to the present version."""

from __future__ import annotations

import contextlib
import itertools
import logging
import os
import sqlite3
import tempfile
from collections.abc import Iterator
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
from ferocal.terms.signs import visible
from ferocal.terms.wording import shortened

LEDGER_FILE = "ledger.sqlite"
_MOST_DIGITS = 9
_VERSION = sa.select(schema.about.c.value).where(schema.about.c.key == "schema")


def open_ledger(directory: Path, *, create: bool = False, checked: bool = True) -> Ledger:
    """Open the ledger of a study for writing; it is checked unless it is to be repaired.

    One of an earlier version is brought to the present one, and what it was is kept beside it.

    Raises
    ------
    LedgerError
        When there is none and ``create`` is false, when it cannot be read or is damaged, or
        when it was written by a newer Ferocal.
    """
    path = directory / LEDGER_FILE
    if create:
        _keep_private(path)
    if not create:
        _refuse_missing(path)
    engine = patient_engine(path)
    with _explained(path):
        if create:
            _create_tables(engine)
        _bring_up_to_date(engine, path, keep=True)
        if checked:
            _check(engine, path)
    return Ledger(engine, path)


@contextlib.contextmanager
def read_ledger(directory: Path, *, checked: bool = True) -> Iterator[Ledger]:
    """Open the ledger of a study for reading: all queries see it as it is at the first of them.

    One of an earlier version stays as it is; what is read is a copy of the present version.

    Raises
    ------
    LedgerError
        As for `open_ledger`.
    """
    path = directory / LEDGER_FILE
    _refuse_missing(path)
    with contextlib.ExitStack() as stack:
        engine = patient_engine(path)
        stack.callback(engine.dispose)
        with _explained(path):
            with engine.connect() as connection:
                version = _version(connection, path)
            if version != schema.SCHEMA_VERSION:
                scratch = Path(stack.enter_context(tempfile.TemporaryDirectory())) / LEDGER_FILE
                copy_ledger(path, scratch)
                engine = patient_engine(scratch)
                stack.callback(engine.dispose)
            if checked:
                _check(engine, path if version == schema.SCHEMA_VERSION else scratch)
        ledger = Ledger(engine, path)
        stack.enter_context(ledger.snapshot())
        yield ledger


def copy_ledger(source: Path, copy: Path) -> None:
    """A consistent copy of a ledger, in which something may be being recorded, as it is now.

    It has the present version. Errors are those of the store.
    """
    _back_up(source, copy)
    engine = patient_engine(copy)
    _bring_up_to_date(engine, copy, keep=False)
    engine.dispose()


def _back_up(source: Path, copy: Path) -> None:
    with (
        contextlib.closing(sqlite3.connect(source)) as here,
        contextlib.closing(sqlite3.connect(copy)) as there,
    ):
        here.backup(there)


def _refuse_missing(path: Path) -> None:
    if not path.exists():
        raise LedgerError(f"{path}: nothing recorded yet; take readings with `ferocal measure`")


@contextlib.contextmanager
def _explained(path: Path) -> Iterator[None]:
    """Errors of the store, as errors of this ledger."""
    try:
        yield
    except STORE_ERRORS as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {cause(error)}") from error


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


def _bring_up_to_date(engine: sa.Engine, path: Path, *, keep: bool) -> None:
    """Bring a ledger to the present version; to ``keep`` it, it is copied before, and told."""
    with engine.connect() as connection:
        version = _version(connection, path)
    if version == schema.SCHEMA_VERSION:
        return
    from ferocal.ledger.migrations import migrate

    with engine.connect().execution_options(**{WRITES: True}) as connection, connection.begin():
        before = _version(connection, path)
        if before == schema.SCHEMA_VERSION:
            return  # another process was faster
        kept = _keep_version(path, before) if keep else None
        version = migrate(connection, before)
        change = sa.update(schema.about).where(schema.about.c.key == "schema")
        connection.execute(change.values(value=str(version)))
        # What was there before has no seals of its time; it is kept from now on.
        connection.execute(sa.delete(schema.about).where(schema.about.c.key == SEALED_AT))
        connection.execute(sa.insert(schema.about).values(key=SEALED_AT, value=now()))
        seal_all(connection)
    if kept is not None:
        logging.getLogger(__name__).warning(
            "%s: was of version %d and is now of version %d; what it was is kept as %s",
            visible(str(path)), before, version, kept.name,
        )  # fmt: skip


def _keep_version(path: Path, version: int) -> Path:
    """A copy of a ledger beside it, named for its version, which no power cut takes back."""
    names = itertools.chain((f"{path.name}.v{version}",), _numbered(f"{path.name}.v{version}"))
    kept = next(place for name in names if not (place := path.with_name(name)).exists())
    handle, scratch = tempfile.mkstemp(prefix=f".{kept.name}-", dir=path.parent)
    try:
        _back_up(path, Path(scratch))
        os.fsync(handle)
        Path(scratch).replace(kept)
    finally:
        os.close(handle)
        Path(scratch).unlink(missing_ok=True)
    return kept


def _numbered(name: str) -> Iterator[str]:
    return (f"{name}.{number}" for number in itertools.count(2))


def _check(engine: sa.Engine, path: Path) -> None:
    """Refuse a ledger that is damaged, unless only runs are that are excluded.

    Raises
    ------
    LedgerError
        When it is; the message names the first row, and what can be done.
    """
    # The file is never opened beside a transaction: closing it would drop the locks that SQLite
    # holds for this process.
    if memory.is_known(path) or memory.was_whole(path):
        return
    with engine.connect() as connection:
        # A transaction that has read keeps others from writing, until it ends.
        connection.execute(_VERSION)
        content = memory.content_of(path)
        driver = driver_of(connection)
        broken = [b for b in find_broken(driver) if not is_excluded(driver, b)]
        if broken:
            raise LedgerError(f"{path}: {_damage(driver, broken)}")
    memory.remember(path, content)


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
