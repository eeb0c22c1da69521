"""The check of a whole ledger: the file, what its rows hold, and their seals."""

from __future__ import annotations

import itertools
import sqlite3
from collections.abc import Iterator

from ferocal.ledger import tables
from ferocal.ledger.integrity.seals import CHANGED, FIRST_SEALED, Broken, broken_seals
from ferocal.terms.signs import visible
from ferocal.terms.wording import shortened

# What SQLite keeps for itself.
_OF_SQLITE = "sqlite_"


def find_broken(
    driver: sqlite3.Connection, version: int = tables.SCHEMA_VERSION, *, most: int = 100
) -> list[Broken]:
    """What is broken in a ledger, at most so many things, the file itself before its rows.

    ``version`` is that of the ledger, from the first with seals on.

    Raises
    ------
    sqlite3.Error
        When the file is so damaged that its tables cannot be read.
    """
    return list(itertools.islice(_all(driver, version), most))


def _all(driver: sqlite3.Connection, version: int) -> Iterator[Broken]:
    yield from foreign_objects(driver)
    if version > FIRST_SEALED:
        yield from _wrong_header(driver)
    for (text,) in driver.execute("PRAGMA integrity_check(20)"):
        if text != "ok":
            yield Broken("file", 0, text)
    for table, row, parent, _ in driver.execute("PRAGMA foreign_key_check"):
        yield Broken("file", 0, f"{table}, row {row}, belongs to a {parent} that is not there")
    # What it takes to know every shape is loaded only for a ledger that was not checked before.
    from ferocal.ledger.integrity.shapes import broken_values

    values = list(broken_values(driver, version))
    try:
        yield from broken_seals(driver, version)
    except (TypeError, OverflowError):
        # Rows whose keys are of another kind cannot be put in order; they are named below.
        if not values:
            raise
    yield from values


def foreign_names(driver: sqlite3.Connection) -> list[tuple[str, str]]:
    """Kind and name of what is none of a ledger's tables or their indexes: views, triggers, others.

    A ledger of an earlier version has fewer tables, and an index more.
    """
    query = 'SELECT "type", "name", "tbl_name", "sql" FROM "sqlite_master"'
    return [
        (kind, str(name))
        for kind, name, table, sql in driver.execute(query)
        if kind not in ("table", "index")
        or not (table in _TABLES or str(name).startswith(_OF_SQLITE))
        or str(sql).upper().startswith("CREATE VIRTUAL")
    ]


def foreign_objects(driver: sqlite3.Connection) -> list[Broken]:
    """The same as what is broken: what others put there can be dropped, but not our own tables."""
    return [
        Broken(
            "file" if name in _TABLES else "object",
            0,
            f"holds a {kind} that is not Ferocal's: {shortened(visible(name), 40)}",
        )
        for kind, name in foreign_names(driver)
    ]


# Those of earlier versions had another name for noise floors.
_TABLES = frozenset({*(table.name for table in tables.TABLES), "floor"})


def header_version(driver: sqlite3.Connection) -> int:
    """The version that the header of the file names, 0 where it names none."""
    (application,) = driver.execute("PRAGMA application_id").fetchone()
    (version,) = driver.execute("PRAGMA user_version").fetchone()
    return int(version) if application == tables.APPLICATION_ID else 0


def _wrong_header(driver: sqlite3.Connection) -> Iterator[Broken]:
    row = driver.execute('SELECT "value" FROM "about" WHERE "key" = \'schema\'').fetchone()
    said, version = (row[0] if row is not None else None), header_version(driver)
    if said != str(version):
        what = f"its header says version {version}, its tables say {shortened(str(said), 20)}"
        yield Broken("header", 0, what)


def describe(driver: sqlite3.Connection, broken: Broken) -> str:
    """What is broken, in words, the row by the id that people use where it has one."""
    if broken.kind in ("file", "object", "header", "chain"):
        return broken.what
    of_run = broken.kind in ("reading", "absence", "output")
    name = f"the {broken.kind} of run" if of_run else broken.kind
    table, row = "run" if of_run else broken.kind, None
    if table in _WITH_UID:
        query = f'SELECT "uid" FROM "{table}" WHERE "id" = ?'
        row = driver.execute(query, (broken.key,)).fetchone()
    where = row[0][:10] if row is not None and isinstance(row[0], str) else f"no. {broken.key}"
    return f"{name.replace('_', ' ')} {where} {broken.what}"


_WITH_UID = frozenset(table.name for table in tables.WITH_UID)


def is_excluded(driver: sqlite3.Connection, broken: Broken) -> bool:
    """Whether it is a run that is marked as not to be used, and nothing else hangs on it."""
    if (broken.kind, broken.what) != ("run", CHANGED):
        return False
    query = 'SELECT "excluded" FROM "mark" WHERE "run_id" = ? ORDER BY "at" DESC, "id" DESC LIMIT 1'
    return bool(driver.execute(query, (broken.key,)).fetchone() == (1,))
