"""Repairing a ledger: what is damaged is set aside in a copy, and the rest is used."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from pathlib import Path

import sqlalchemy as sa

from ferocal.errors import LedgerError
from ferocal.ledger import tables
from ferocal.ledger.engines import driver_of, reading, writing
from ferocal.ledger.integrity.check import (
    describe,
    find_broken,
    foreign_names,
    is_excluded,
)
from ferocal.ledger.integrity.memory import note_entries
from ferocal.ledger.integrity.seals import (
    FIRST_SEALED,
    LOST,
    Broken,
    seal_all,
    seal_as_damaged,
)
from ferocal.ledger.migrations import migrate
from ferocal.ledger.opening import explained, refuse_missing
from ferocal.ledger.refusing import version_of
from ferocal.ledger.upgrading import keep_copy, stamp
from ferocal.ledger.writing.store import WritableLedger
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import now

# So many things are looked at; a ledger with more is brought back from a copy.
_MOST = 100_000
# What hangs on a run: without it the run would say something else.
_OF_RUN = [table for table in tables.TABLES if table.has("run_id")]


@dataclass(frozen=True)
class Repaired:
    """What was damaged, in words; how many visits and runs were set aside; the copy with them."""

    damages: tuple[str, ...]
    visits: int
    runs: int
    copy: Path | None


def repair_ledger(path: Path, reason: str, *, preview: bool = False) -> Repaired:
    """Set aside what is damaged in a ledger: a copy keeps it, and the rest is sealed anew.

    A run is set aside with all of its readings, a visit with its runs. With ``preview`` nothing
    is changed.

    Raises
    ------
    LedgerError
        When there is none, or when the file itself is damaged, so that no row can be trusted.
    """
    refuse_missing(path)
    with explained(path):
        with writing(path) as connection:
            driver = driver_of(connection)
            version = version_of(driver, path)
            if version < FIRST_SEALED:
                migrate(connection, version)
                stamp(connection)
                seal_all(driver)
            sealed_as = version if version >= FIRST_SEALED else tables.SCHEMA_VERSION
            found = find_broken(driver, sealed_as, most=_MOST)
            broken = [b for b in found if not is_excluded(driver, b)]
            damages = tuple(describe(driver, b) for b in broken)
            if any(b.kind == "file" for b in broken) or len(broken) == _MOST:
                raise LedgerError(
                    f"{path}: the file itself is damaged: {damages[0]}; restore it from a copy"
                )
            if not broken:
                return Repaired((), 0, 0, None)
            before = _counts(driver)
            copy = None if preview else keep_copy(path, "damaged")
            _set_aside(driver, broken)
            after = _counts(driver)
            if preview:
                driver.rollback()
            else:
                if sealed_as < tables.SCHEMA_VERSION:
                    migrate(connection, version)
                stamp(connection)
                _note(WritableLedger(path), connection, damages, reason)
                seal_all(driver)
                # Damaged runs that are excluded stay what they are.
                seal_as_damaged(driver, [b.key for b in found if b not in broken])
        if not preview:
            with reading(path) as driver:
                note_entries(path, driver)
        return Repaired(damages, before[0] - after[0], before[1] - after[1], copy)


def _counts(driver: sqlite3.Connection) -> tuple[int, int]:
    visits, runs = (
        int(driver.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0])
        for name in ("visit", "run")
    )
    return visits, runs


def _set_aside(driver: sqlite3.Connection, broken: Iterable[Broken]) -> None:
    """Delete what is broken, with what hangs on it."""
    for kind, name in foreign_names(driver):
        quoted = name.replace('"', '""')
        driver.execute(f'DROP {kind} IF EXISTS "{quoted}"')
    doomed: dict[str, set[int]] = {table.name: set() for table in tables.TABLES}
    for found in broken:
        if found.kind in doomed and found.what != LOST:
            doomed[found.kind].add(found.key)
    for table in _OF_RUN:
        doomed["run"] |= _keys(driver, table, "run_id", table.row_key, doomed[table.name])
        if table.has("metric_id"):
            # Of a metric that cannot be trusted nothing can.
            doomed["run"] |= _keys(driver, table, "run_id", "metric_id", doomed["metric"])
    for table in (tables.VISIT, tables.RUN):
        for column in table.columns:
            if column.of is not None:
                parents = doomed[column.of]
                doomed[table.name] |= _keys(driver, table, "id", column.name, parents)
    for table in _OF_RUN:
        _delete(driver, table, "run_id", doomed["run"])
    # What refers to others before these; seals and their chain are made anew.
    for table in reversed(tables.TABLES):
        if table.has("id") and table not in (tables.SEAL, tables.CHAIN):
            _delete(driver, table, "id", doomed[table.name])


def _keys(
    driver: sqlite3.Connection, table: tables.Table, wanted: str, column: str, values: Iterable[int]
) -> set[int]:
    query = f'SELECT "{wanted}" FROM "{table.name}" WHERE "{column}" = ?'
    return {row[0] for value in values for row in driver.execute(query, (value,))}


def _delete(
    driver: sqlite3.Connection, table: tables.Table, column: str, values: Iterable[int]
) -> None:
    driver.executemany(f'DELETE FROM "{table.name}" WHERE "{column}" = ?', [(v,) for v in values])


def _note(
    ledger: WritableLedger, connection: sa.Connection, damages: tuple[str, ...], reason: str
) -> None:
    """Keep what was set aside, and why, as a note on the study."""
    shown = "; ".join(damages[:3]) + (f" and {len(damages) - 3} more" if len(damages) > 3 else "")
    text = f"repaired: {shown}; set aside: {reason}"
    ledger.insert(tables.NOTE, connection, at=now(), text=text)
