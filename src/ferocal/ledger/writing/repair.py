"""Repairing a ledger: what is damaged is set aside in a copy, and the rest is used."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.connecting import patient_engine
from ferocal.ledger.integrity.check import describe, find_broken, is_excluded
from ferocal.ledger.integrity.memory import note_entries
from ferocal.ledger.integrity.seals import (
    CHILDREN,
    LOST,
    Broken,
    driver_of,
    seal_all,
    seal_as_damaged,
)
from ferocal.ledger.migrations import migrate
from ferocal.ledger.opening import (
    FIRST_SEALED,
    explained,
    keep_copy,
    refuse_missing,
    stamp,
    version_of,
)
from ferocal.ledger.store import WRITES, Ledger
from ferocal.terms.times import now

# So many things are looked at; a ledger with more is brought back from a copy.
_MOST = 100_000
_BELONG = {"visit": ("session_id", "facts_id"), "run": ("visit_id",)}
_PARENTS = {"session_id": "session", "facts_id": "facts", "visit_id": "visit"}
# What hangs on a run, and whose loss would change what the run says.
_OF_RUN = (*(t.name for t in CHILDREN), "mark", "correction")


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
    engine = patient_engine(path)
    try:
        with (
            explained(path),
            engine.connect().execution_options(**{WRITES: True}) as connection,
            connection.begin() as transaction,
        ):
            driver = driver_of(connection)
            version = version_of(connection, path)
            if version < FIRST_SEALED:
                migrate(connection, version)
                stamp(connection)
                seal_all(connection)
            by_session = version == FIRST_SEALED
            found = find_broken(driver, by_session=by_session, most=_MOST)
            broken = [b for b in found if not is_excluded(driver, b)]
            damages = tuple(describe(driver, b) for b in broken)
            if any(b.kind == "file" for b in broken) or len(broken) == _MOST:
                raise LedgerError(
                    f"{path}: the file itself is damaged: {damages[0]}; bring it back from a copy"
                )
            if not broken:
                return Repaired((), 0, 0, None)
            before = _counts(driver)
            copy = None if preview else keep_copy(path, "damaged")
            _set_aside(driver, broken)
            after = _counts(driver)
            if preview:
                transaction.rollback()
            else:
                if by_session:
                    migrate(connection, version)
                stamp(connection)
                _note(Ledger(engine, path), connection, damages, reason)
                seal_all(connection)
                # Damaged runs that are excluded stay what they are.
                seal_as_damaged(connection, [b.key for b in found if b not in broken])
        if not preview:
            with engine.connect() as connection, connection.begin():
                note_entries(path, driver_of(connection))
        return Repaired(damages, before[0] - after[0], before[1] - after[1], copy)
    finally:
        engine.dispose()


def _counts(driver: sqlite3.Connection) -> tuple[int, int]:
    visits, runs = (
        int(driver.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0])
        for name in ("visit", "run")
    )
    return visits, runs


def _set_aside(driver: sqlite3.Connection, broken: Iterable[Broken]) -> None:
    """Delete what is broken, with what hangs on it."""
    doomed: dict[str, set[int]] = {name: set() for name in schema.metadata.tables}
    for found in broken:
        if found.kind == "object":
            _drop_foreign(driver)
        elif found.kind in doomed and found.what != LOST:
            doomed[found.kind].add(found.key)
    for name in _OF_RUN:
        key = "run_id" if name in ("reading", "absence", "output") else "id"
        doomed["run"] |= _keys(driver, name, "run_id", key, doomed[name])
    for name in ("reading", "absence", "correction"):
        # Of a metric that cannot be trusted nothing can.
        doomed["run"] |= _keys(driver, name, "run_id", "metric_id", doomed["metric"])
    for name, columns in _BELONG.items():
        for column in columns:
            doomed[name] |= _keys(driver, name, "id", column, doomed[_PARENTS[column]])
    for name in _OF_RUN:
        _delete(driver, name, "run_id", doomed["run"])
    for name in ("run", "visit", *doomed):
        if "id" in schema.metadata.tables[name].columns and name not in ("seal", "chain"):
            _delete(driver, name, "id", doomed[name])


def _keys(
    driver: sqlite3.Connection, table: str, wanted: str, column: str, values: Iterable[int]
) -> set[int]:
    query = f'SELECT "{wanted}" FROM "{table}" WHERE "{column}" = ?'
    return {row[0] for value in values for row in driver.execute(query, (value,))}


def _delete(driver: sqlite3.Connection, table: str, column: str, values: Iterable[int]) -> None:
    driver.executemany(f'DELETE FROM "{table}" WHERE "{column}" = ?', [(v,) for v in values])


def _drop_foreign(driver: sqlite3.Connection) -> None:
    """Drop what is none of the tables of a ledger, such as triggers and views."""
    query = 'SELECT "type", "name" FROM "sqlite_master" WHERE "type" IN (\'trigger\', \'view\')'
    known = ", ".join(f"'{name}'" for name in schema.metadata.tables)
    tables = (
        f'SELECT "type", "name" FROM "sqlite_master" WHERE "type" = \'table\' '
        f'AND "name" NOT IN ({known}) AND "name" NOT GLOB \'sqlite_*\''
    )
    for kind, name in [*driver.execute(query), *driver.execute(tables)]:
        quoted = str(name).replace('"', '""')
        driver.execute(f'DROP {kind} "{quoted}"')


def _note(ledger: Ledger, connection: sa.Connection, damages: tuple[str, ...], reason: str) -> None:
    """Keep what was set aside, and why, as a note on the study."""
    shown = "; ".join(damages[:3]) + (f" and {len(damages) - 3} more" if len(damages) > 3 else "")
    text = f"repaired: {shown}; set aside: {reason}"
    ledger.insert(schema.note, connection, at=now(), text=text)
