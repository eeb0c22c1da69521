"""The check of a whole ledger: the file, what its rows hold, and their seals."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from ferocal.ledger.integrity.seals import CHANGED, Broken, broken_seals
from ferocal.ledger.integrity.shapes import broken_values

# So many of what is broken are found; more say no more.
_MOST = 100


def find_broken(driver: sqlite3.Connection) -> list[Broken]:
    """What is broken in a ledger, at most a hundred things, the file itself before its rows.

    Raises
    ------
    sqlite3.Error
        When the file is so damaged that its tables cannot be read.
    """
    found: list[Broken] = []
    for broken in _all(driver):
        found.append(broken)
        if len(found) == _MOST:
            break
    return found


def _all(driver: sqlite3.Connection) -> Iterator[Broken]:
    for (text,) in driver.execute("PRAGMA integrity_check(20)"):
        if text != "ok":
            yield Broken("file", 0, text)
    for table, row, parent, _ in driver.execute("PRAGMA foreign_key_check"):
        yield Broken("file", 0, f"{table}, row {row}, belongs to a {parent} that is not there")
    values = list(broken_values(driver))
    try:
        yield from broken_seals(driver)
    except (TypeError, OverflowError):
        # Rows whose keys are of another kind cannot be put in order; they are named below.
        if not values:
            raise
    yield from values


def describe(driver: sqlite3.Connection, broken: Broken) -> str:
    """What is broken, in words, the row by the id that people use where it has one."""
    if broken.kind == "file":
        return broken.what
    of_run = broken.kind in ("reading", "absence", "output")
    name = f"the {broken.kind} of run" if of_run else broken.kind
    table, row = "run" if of_run else broken.kind, None
    if table in _WITH_UID:
        query = f'SELECT "uid" FROM "{table}" WHERE "id" = ?'
        row = driver.execute(query, (broken.key,)).fetchone()
    where = row[0][:10] if row is not None and isinstance(row[0], str) else f"no. {broken.key}"
    return f"{name.replace('_', ' ')} {where} {broken.what}"


_WITH_UID = frozenset({
    "session", "visit", "run", "trace", "step", "mark", "correction", "note", "noise_floor",
    "claim", "bench_look", "reference", "look",
})  # fmt: skip


def is_excluded(driver: sqlite3.Connection, broken: Broken) -> bool:
    """Whether it is a run that is marked as not to be used, and nothing else hangs on it."""
    if (broken.kind, broken.what) != ("run", CHANGED):
        return False
    query = 'SELECT "excluded" FROM "mark" WHERE "run_id" = ? ORDER BY "at" DESC, "id" DESC LIMIT 1'
    return bool(driver.execute(query, (broken.key,)).fetchone() == (1,))
