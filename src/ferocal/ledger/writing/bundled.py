"""Ledgers for bundles: without what must not be published, and made anew from their rows."""

from __future__ import annotations

import contextlib
import hashlib
import re
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path, PurePath
from typing import Any

import sqlalchemy as sa

from ferocal.errors import LedgerError
from ferocal.ledger import schema, tables
from ferocal.ledger.engines import driver_of, writing
from ferocal.ledger.integrity.check import describe, find_broken
from ferocal.ledger.integrity.seals import LEDGER_ID, seal_all
from ferocal.ledger.opening import explained
from ferocal.ledger.upgrading import create_tables, keep_private
from ferocal.ledger.writing.keys import facts_digest
from ferocal.ledger.writing.store import change_row
from ferocal.terms.private import is_identifying, without_errors

# What stands for a value that is withheld; the same value has the same number.
_WITHHELD = "not shown"


def withhold(path: Path) -> list[str]:
    """Take what must not be published out of a copy of a ledger, and seal the rest anew.

    Values of facts that tell one machine from all others, what programs wrote, and directories of
    imported files. Returns what was withheld, in words.
    """
    found: list[str] = []
    with writing(path) as connection:
        found += _facts(connection)
        found += _errors(connection)
        found += _outputs(connection)
        found += _directories(connection)
        if found:
            _rename(connection)
            seal_all(driver_of(connection))
    return found


def _rename(connection: sa.Connection) -> None:
    """Give the ledger another id: the first entries of the one that it was are not these."""
    about = schema.about
    known = connection.scalar(sa.select(about.c.value).where(about.c.key == LEDGER_ID)) or ""
    new = hashlib.sha256(f"{known} without what must not be published".encode()).hexdigest()[:32]
    connection.execute(sa.update(about).where(about.c.key == LEDGER_ID).values(value=new))


def _facts(connection: sa.Connection) -> Iterator[str]:
    table, values, names = schema.facts, dict[str, int](), dict[str, None]()
    for key, content in connection.execute(sa.select(table.c.id, table.c.content)).all():
        changed = [dict(fact) for fact in content]
        for fact in changed:
            if is_identifying(fact["name"]):
                names[fact["name"]] = None
                number = values.setdefault(fact["value"], len(values) + 1)
                fact["value"] = f"{_WITHHELD} ({number})"
        if changed != content:
            new = {"content": changed, "digest": facts_digest(changed)}
            change_row(connection, tables.FACTS, key, new)
    if names:
        yield f"values of {', '.join(names)}"


def _errors(connection: sa.Connection) -> Iterator[str]:
    table, count = schema.run, 0
    query = sa.select(table.c.id, table.c.reason).where(table.c.reason.is_not(None))
    for key, reason in connection.execute(query).all():
        if (short := without_errors(reason)) != reason:
            count += 1
            change_row(connection, tables.RUN, key, {"reason": short})
    if count:
        yield f"standard error of {count} failed runs"


def _outputs(connection: sa.Connection) -> Iterator[str]:
    outputs = connection.execute(sa.delete(schema.output)).rowcount
    step = schema.step
    steps = connection.execute(
        sa.update(step).where(step.c.output.is_not(None)).values(output=None)
    ).rowcount
    if outputs + steps:
        yield f"what programs wrote, {outputs + steps} times"


def _directories(connection: sa.Connection) -> Iterator[str]:
    table, count = schema.session, 0
    query = sa.select(table.c.id, table.c.source).where(table.c.source.is_not(None))
    for key, source in connection.execute(query).all():
        if (name := PurePath(re.split(r"[\\/]", source)[-1]).name) != source:
            count += 1
            change_row(connection, tables.SESSION, key, {"source": name})
    if count:
        yield f"directories of {count} imported files"


def create_from(path: Path, rows: Mapping[str, Iterable[Mapping[str, Any]]]) -> None:
    """Make a ledger of all of its rows, by table, and check it as a whole.

    Raises
    ------
    LedgerError
        When a table or a column is unknown, a row does not fit, or a seal does.
    """
    keep_private(path)
    with explained(path):
        create_tables(path)
        with writing(path) as connection:
            driver = driver_of(connection)
            driver.execute('DELETE FROM "about"')
            for table in tables.TABLES:
                _insert(driver, table, rows.get(table.name, ()))
            for broken in find_broken(driver):
                raise LedgerError(f"damaged: {describe(driver, broken)}")
    with contextlib.suppress(OSError):
        path.chmod(0o600)


def _insert(
    driver: sqlite3.Connection, table: tables.Table, rows: Iterable[Mapping[str, Any]]
) -> None:
    names = [column.name for column in table.columns]
    marks = ", ".join("?" * len(names))
    columns = ", ".join(f'"{name}"' for name in names)
    insert = f'INSERT INTO "{table.name}" ({columns}) VALUES ({marks})'
    for row in rows:
        if set(row) - set(names):
            raise LedgerError(f"{table.name}: unknown column {sorted(set(row) - set(names))[0]}")
        try:
            driver.execute(insert, [row.get(name) for name in names])
        except OverflowError as error:
            raise LedgerError(f"{table.name}: {error}") from None
