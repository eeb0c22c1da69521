"""Ledgers that are refused: of an unknown version, or not as they were written."""

from __future__ import annotations

import logging
import sqlite3
from pathlib import Path

from ferocal.errors import LedgerError
from ferocal.ledger import tables
from ferocal.ledger.integrity import memory
from ferocal.ledger.integrity.check import describe, find_broken, header_version, is_excluded
from ferocal.ledger.integrity.seals import CHANGED, FIRST_SEALED, Broken
from ferocal.terms.signs import visible
from ferocal.terms.wording import shortened

_MOST_DIGITS = 9
_TABLES = frozenset(table.name for table in tables.TABLES)


def check(driver: sqlite3.Connection, path: Path, *, is_copy: bool = False) -> None:
    """Refuse a ledger that is damaged, unless only runs are that are excluded.

    The driver is in the transaction that reads. What was found whole is remembered by its path,
    unless what is read ``is_copy``.

    Raises
    ------
    LedgerError
        When it is; the message names the first row, and what can be done.
    """
    digest = "" if is_copy else memory.digest_of(driver, path)
    if not is_copy and memory.is_known(path, digest):
        return
    refuse(driver, path, list(find_broken(driver)))
    if is_copy:
        return
    loss = memory.remember(path, driver, digest)
    if loss is not None:
        logging.getLogger(__name__).warning("%s: %s", visible(str(path)), loss)


def refuse(driver: sqlite3.Connection, path: Path, broken: list[Broken]) -> None:
    """Refuse a ledger in which something is broken that is not excluded."""
    broken = [b for b in broken if not is_excluded(driver, b)]
    if broken:
        raise LedgerError(f"{path}: {_damage(driver, broken)}")


def _damage(driver: sqlite3.Connection, broken: list[Broken]) -> str:
    first = describe(driver, broken[0])
    more = f" (and {len(broken) - 1} more)" if len(broken) > 1 else ""
    advice = "`ferocal inspect --integrity` lists all; restore the ledger from a copy"
    if all(b.kind == "run" and b.what == CHANGED for b in broken):
        advice += ", or exclude the damaged runs with `ferocal exclude`"
    elif all(b.kind != "file" for b in broken):
        advice += ", or set the damaged rows aside with `ferocal repair`"
    return f"is damaged: {first}{more}; {advice}"


def version_of(driver: sqlite3.Connection, path: Path) -> int:
    """The version of a ledger: what it says itself, or its header, if that is later.

    Raises
    ------
    LedgerError
        When it is unknown, or newer than this program, or when what is asked is a view.
    """
    query = 'SELECT "name" FROM "sqlite_master" WHERE "type" = \'view\''
    views = [name for (name,) in driver.execute(query) if name in _TABLES]
    if views:
        # Asking it would run what others have put there.
        raise LedgerError(f"{path}: is damaged: {views[0]} is a view; bring it back from a copy")
    row = driver.execute('SELECT "value" FROM "about" WHERE "key" = \'schema\'').fetchone()
    text = row[0] if row is not None else None
    known = isinstance(text, str) and text.isdecimal() and len(text) <= _MOST_DIGITS
    # Whatever it says, one with seals is no earlier than the first that has them.
    query = 'SELECT count(*) FROM "sqlite_master" WHERE "name" = \'seal\''
    least = FIRST_SEALED * bool(driver.execute(query).fetchone()[0])
    version = max(int(str(text)), header_version(driver), least) if known else None
    if version is None or version > tables.SCHEMA_VERSION:
        raise LedgerError(
            f"{path}: has schema version {shortened(str(text), 20)}, this Ferocal reads up to "
            f"{tables.SCHEMA_VERSION}; use a newer Ferocal"
        )
    return version
