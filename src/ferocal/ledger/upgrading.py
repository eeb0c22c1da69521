"""Ledgers of the present version: their tables made, and earlier ones brought to it."""

from __future__ import annotations

import contextlib
import itertools
import logging
import os
import sqlite3
import uuid
from collections.abc import Iterator
from pathlib import Path

import sqlalchemy as sa

from ferocal.ledger import schema, tables
from ferocal.ledger.engines import driver_of, reading, writing
from ferocal.ledger.integrity.check import find_broken, foreign_objects, is_excluded
from ferocal.ledger.integrity.seals import (
    FIRST_SEALED,
    LEDGER_ID,
    SEALED_AT,
    seal_all,
    seal_as_damaged,
)
from ferocal.ledger.refusing import refuse, version_of
from ferocal.terms.files import replacing, scratch_directory
from ferocal.terms.signs import visible
from ferocal.terms.times import now


def copy_ledger(source: Path, copy: Path) -> None:
    """A consistent copy of a ledger, in which something may be being recorded, as it is now.

    It has the present version. Errors are those of the store.
    """
    _back_up(source, copy)
    bring_up_to_date(copy, source, keep=False)


def _back_up(source: Path, copy: Path) -> None:
    with (
        contextlib.closing(sqlite3.connect(source)) as here,
        contextlib.closing(sqlite3.connect(copy)) as there,
    ):
        here.backup(there)


def keep_private(path: Path) -> None:
    """Make an empty file that only its owner can read, before anything is written into it."""
    # What cannot be created is reported when it is opened.
    with contextlib.suppress(OSError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))


def create_ledger(path: Path) -> None:
    """Create a ledger where there is none: whole or not at all, where files can be linked.

    Raises
    ------
    FerocalError
        When it cannot be written; other errors are those of the store.
    """
    if path.exists():
        create_tables(path)
        return
    with scratch_directory(path.parent, f".{path.name}-") as scratch:
        made = scratch / path.name
        keep_private(made)
        create_tables(made)
        try:
            path.hardlink_to(made)
        except FileExistsError:
            return  # another process was faster
        except OSError:
            # A file system without links; a file put in its place might be over another's.
            keep_private(path)
            create_tables(path)


def create_tables(path: Path) -> None:
    """Create the tables of a ledger of the present version, where there are none."""
    with reading(path) as driver:
        if _has_tables(driver):
            return
    with writing(path) as connection:
        if _has_tables(driver_of(connection)):
            return  # another process was faster
        schema.metadata.create_all(connection)
        stamp(connection)


def _has_tables(driver: sqlite3.Connection) -> bool:
    return bool(driver.execute("SELECT 1 FROM sqlite_master WHERE name = 'about'").fetchall())


def bring_up_to_date(store: Path, path: Path, *, keep: bool) -> None:
    """Bring a ledger in a store to the present version; to ``keep`` it, it is copied before.

    Raises
    ------
    LedgerError
        When it is damaged, or newer than this program; other errors are those of the store.
    """
    with reading(store) as driver:
        version = version_of(driver, path)
        # Writing beside a trigger would run what others have put there.
        refuse(driver, path, foreign_objects(driver))
    if version == tables.SCHEMA_VERSION:
        return
    from ferocal.ledger.migrations import migrate

    with writing(store) as connection:
        driver = driver_of(connection)
        before = version_of(driver, path)
        if before == tables.SCHEMA_VERSION:
            return  # another process was faster
        damaged: list[int] = []
        if before >= FIRST_SEALED:
            # What is sealed anew below was whole until now, or is used nowhere.
            broken = list(find_broken(driver, before))
            damaged = [b.key for b in broken if is_excluded(driver, b)]
            refuse(driver, path, broken)
        kept = keep_copy(path, f"v{before}") if keep else None
        version = migrate(connection, before)
        stamp(connection)
        seal_all(driver)
        seal_as_damaged(driver, damaged)
    if kept is not None:
        logging.getLogger(__name__).warning(
            "%s: was of version %d and is now of version %d; what it was is kept as %s",
            visible(str(path)), before, version, kept.name,
        )  # fmt: skip


def stamp(connection: sa.Connection) -> None:
    """Write down which version a ledger is of, also in its header, since when, and its id.

    What was there before has no seals of its time; it is kept as it is from now on.
    """
    about = schema.about
    known = {row.key: row.value for row in connection.execute(sa.select(about))}
    values = {"schema": str(tables.SCHEMA_VERSION), LEDGER_ID: uuid.uuid4().hex}
    if known:
        values[SEALED_AT] = now()
    values[LEDGER_ID] = known.get(LEDGER_ID, values[LEDGER_ID])
    connection.execute(sa.delete(about).where(about.c.key.in_(values)))
    connection.execute(sa.insert(about), [{"key": k, "value": v} for k, v in values.items()])
    # The header is on the first page, and written with the transaction.
    connection.exec_driver_sql(f"PRAGMA application_id = {tables.APPLICATION_ID}")
    connection.exec_driver_sql(f"PRAGMA user_version = {tables.SCHEMA_VERSION}")


def keep_copy(path: Path, ending: str) -> Path:
    """A copy of a ledger beside it, named by an ending, which no power cut takes back."""
    names = itertools.chain((f"{path.name}.{ending}",), _numbered(f"{path.name}.{ending}"))
    kept = next(place for name in names if not (place := path.with_name(name)).exists())
    with replacing(kept, durable=True, mode=0o600) as partial:
        _back_up(path, partial)
    return kept


def _numbered(name: str) -> Iterator[str]:
    return (f"{name}.{number}" for number in itertools.count(2))
