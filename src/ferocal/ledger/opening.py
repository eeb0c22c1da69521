"""Opening a ledger: creating its tables, bringing it to the present version."""

from __future__ import annotations

import contextlib
import itertools
import logging
import os
import sqlite3
import tempfile
import uuid
from collections.abc import Iterator
from pathlib import Path

import sqlalchemy as sa

from ferocal.errors import LedgerError
from ferocal.ledger import schema
from ferocal.ledger.connecting import WRITES, patient_engine
from ferocal.ledger.integrity import memory
from ferocal.ledger.integrity.check import (
    describe,
    find_broken,
    foreign_objects,
    header_version,
    is_excluded,
)
from ferocal.ledger.integrity.seals import (
    CHANGED,
    FIRST_SEALED,
    LEDGER_ID,
    SEALED_AT,
    Broken,
    driver_of,
    seal_all,
    seal_as_damaged,
)
from ferocal.ledger.store import STORE_ERRORS, Ledger, cause
from ferocal.study.masking import NOTHING_PRIVATE, Mask
from ferocal.terms.signs import visible
from ferocal.terms.times import now
from ferocal.terms.wording import shortened

LEDGER_FILE = "ledger.sqlite"
_MOST_DIGITS = 9


def open_ledger(
    directory: Path,
    *,
    create: bool = False,
    checked: bool = True,
    mask: Mask = NOTHING_PRIVATE,
) -> Ledger:
    """Open the ledger of a study for writing; it is checked unless it is to be repaired.

    One of an earlier version is brought to the present one, and what it was is kept beside it.
    What is private by the ``mask`` is not recorded.

    Raises
    ------
    LedgerError
        When there is none and ``create`` is false, when it cannot be read or is damaged, or
        when it was written by a newer Ferocal.
    """
    path = directory / LEDGER_FILE
    if create:
        keep_private(path)
    if not create:
        refuse_missing(path)
    engine = patient_engine(path)
    with explained(path):
        if create:
            create_tables(engine)
        _bring_up_to_date(engine, path, keep=True)
        if checked:
            with engine.connect() as connection, connection.begin():
                _check(driver_of(connection), path)
    return Ledger(engine, path, mask)


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
    refuse_missing(path)
    with contextlib.ExitStack() as stack:
        engine = patient_engine(path)
        stack.callback(engine.dispose)
        with explained(path):
            with engine.connect() as connection:
                version = version_of(connection, path)
            if version != schema.SCHEMA_VERSION:
                scratch = Path(stack.enter_context(tempfile.TemporaryDirectory())) / LEDGER_FILE
                copy_ledger(path, scratch)
                engine = patient_engine(scratch)
                stack.callback(engine.dispose)
        ledger = Ledger(engine, path)
        stack.enter_context(ledger.snapshot())
        if checked:
            # Within the snapshot: what is read is what was checked.
            with ledger.driver() as driver:
                _check(driver, path if version == schema.SCHEMA_VERSION else None)
        yield ledger


def copy_ledger(source: Path, copy: Path) -> None:
    """A consistent copy of a ledger, in which something may be being recorded, as it is now.

    It has the present version. Errors are those of the store.
    """
    _back_up(source, copy)
    engine = patient_engine(copy)
    _bring_up_to_date(engine, source, keep=False)
    engine.dispose()


def _back_up(source: Path, copy: Path) -> None:
    with (
        contextlib.closing(sqlite3.connect(source)) as here,
        contextlib.closing(sqlite3.connect(copy)) as there,
    ):
        here.backup(there)


def refuse_missing(path: Path) -> None:
    """Refuse to read what was never recorded."""
    if not path.exists():
        raise LedgerError(f"{path}: nothing recorded yet; take readings with `ferocal measure`")


@contextlib.contextmanager
def explained(path: Path) -> Iterator[None]:
    """Errors of the store, as errors of this ledger."""
    try:
        yield
    except STORE_ERRORS as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {cause(error)}") from error


def keep_private(path: Path) -> None:
    """Make an empty file that only its owner can read, before anything is written into it."""
    # What cannot be created is reported when it is opened.
    with contextlib.suppress(OSError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))


def create_tables(engine: sa.Engine) -> None:
    """Create the tables of a ledger of the present version, where there are none."""
    with engine.connect() as connection:
        if sa.inspect(connection).has_table("about"):
            return
    with engine.connect().execution_options(**{WRITES: True}) as connection, connection.begin():
        if sa.inspect(connection).has_table("about"):
            return  # another process was faster
        schema.metadata.create_all(connection)
        stamp(connection)


def _bring_up_to_date(engine: sa.Engine, path: Path, *, keep: bool) -> None:
    """Bring a ledger to the present version; to ``keep`` it, it is copied before, and told."""
    with engine.connect() as connection:
        version = version_of(connection, path)
        # Writing beside a trigger would run what others have put there.
        _refuse(driver_of(connection), path, foreign_objects(driver_of(connection)))
    if version == schema.SCHEMA_VERSION:
        return
    from ferocal.ledger.migrations import migrate

    with engine.connect().execution_options(**{WRITES: True}) as connection, connection.begin():
        before = version_of(connection, path)
        if before == schema.SCHEMA_VERSION:
            return  # another process was faster
        damaged: list[int] = []
        if before >= FIRST_SEALED:
            # What is sealed anew below was whole until now, or is used nowhere.
            driver = driver_of(connection)
            broken = list(find_broken(driver, before))
            damaged = [b.key for b in broken if is_excluded(driver, b)]
            _refuse(driver, path, broken)
        kept = keep_copy(path, f"v{before}") if keep else None
        version = migrate(connection, before)
        stamp(connection)
        seal_all(connection)
        seal_as_damaged(connection, damaged)
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
    values = {"schema": str(schema.SCHEMA_VERSION), LEDGER_ID: uuid.uuid4().hex}
    if known:
        values[SEALED_AT] = now()
    values[LEDGER_ID] = known.get(LEDGER_ID, values[LEDGER_ID])
    connection.execute(sa.delete(about).where(about.c.key.in_(values)))
    connection.execute(sa.insert(about), [{"key": k, "value": v} for k, v in values.items()])
    # The header is on the first page, and written with the transaction.
    connection.exec_driver_sql(f"PRAGMA application_id = {schema.APPLICATION_ID}")
    connection.exec_driver_sql(f"PRAGMA user_version = {schema.SCHEMA_VERSION}")


def keep_copy(path: Path, ending: str) -> Path:
    """A copy of a ledger beside it, named by an ending, which no power cut takes back."""
    names = itertools.chain((f"{path.name}.{ending}",), _numbered(f"{path.name}.{ending}"))
    kept = next(place for name in names if not (place := path.with_name(name)).exists())
    handle, scratch = tempfile.mkstemp(prefix=f".{kept.name}-", dir=path.parent)
    os.close(handle)
    try:
        _back_up(path, Path(scratch))
        with Path(scratch).open("rb") as file:
            os.fsync(file.fileno())
        Path(scratch).replace(kept)
    finally:
        Path(scratch).unlink(missing_ok=True)
    return kept


def _numbered(name: str) -> Iterator[str]:
    return (f"{name}.{number}" for number in itertools.count(2))


def _check(driver: sqlite3.Connection, path: Path | None) -> None:
    """Refuse a ledger that is damaged, unless only runs are that are excluded.

    The driver is in the transaction that reads. What was found whole is remembered by its path.

    Raises
    ------
    LedgerError
        When it is; the message names the first row, and what can be done.
    """
    digest = memory.digest_of(driver) if path is not None else ""
    if path is not None and memory.is_known(path, digest):
        return
    _refuse(driver, path, list(find_broken(driver)))
    if path is None:
        return
    loss = memory.remember(path, driver, digest)
    if loss is not None:
        logging.getLogger(__name__).warning("%s: %s", visible(str(path)), loss)


def _refuse(driver: sqlite3.Connection, path: Path | None, broken: list[Broken]) -> None:
    broken = [b for b in broken if not is_excluded(driver, b)]
    if broken:
        raise LedgerError(f"{path or LEDGER_FILE}: {_damage(driver, broken)}")


def _damage(driver: sqlite3.Connection, broken: list[Broken]) -> str:
    first = describe(driver, broken[0])
    more = f" (and {len(broken) - 1} more)" if len(broken) > 1 else ""
    advice = "`ferocal inspect --integrity` lists all; restore the ledger from a copy"
    if all(b.kind == "run" and b.what == CHANGED for b in broken):
        advice += ", or exclude the damaged runs with `ferocal exclude`"
    elif all(b.kind != "file" for b in broken):
        advice += ", or set the damaged rows aside with `ferocal repair`"
    return f"is damaged: {first}{more}; {advice}"


def version_of(connection: sa.Connection, path: Path) -> int:
    """The version of a ledger: what it says itself, or its header, if that is later.

    Raises
    ------
    LedgerError
        When it is unknown, or newer than this program, or when what is asked is a view.
    """
    driver = driver_of(connection)
    query = 'SELECT "name" FROM "sqlite_master" WHERE "type" = \'view\''
    views = [name for (name,) in driver.execute(query) if name in schema.metadata.tables]
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
    if version is None or version > schema.SCHEMA_VERSION:
        raise LedgerError(
            f"{path}: has schema version {shortened(str(text), 20)}, this Ferocal reads up to "
            f"{schema.SCHEMA_VERSION}; use a newer Ferocal"
        )
    return version
