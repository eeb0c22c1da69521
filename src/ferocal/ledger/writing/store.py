"""The ledger as a store that is written: transactions, and the seals of what is in them."""

from __future__ import annotations

import contextlib
import functools
import sqlite3
import uuid
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import IntegrityError, SQLAlchemyError

from ferocal.errors import BeyondLedgerError, LedgerError
from ferocal.ledger import schema, tables
from ferocal.ledger.connecting import impatient
from ferocal.ledger.engines import driver_of, writing_engine
from ferocal.ledger.integrity.check import describe
from ferocal.ledger.integrity.memory import note_entries
from ferocal.ledger.integrity.seals import Rows, joined, seal_rows
from ferocal.ledger.integrity.shapes import broken_among
from ferocal.ledger.store import STORE_ERRORS, Ledger, cause
from ferocal.ledger.writing.watch import Watch
from ferocal.study.masking import MASKED, NOTHING_PRIVATE, Mask
from ferocal.terms.times import now


class WritableLedger(Ledger):
    """A ledger that is written: append-only but for the ending of open runs.

    What is private by its ``mask`` is not kept, whoever writes it.

    Methods raise `LedgerError` when the store cannot be read or written.
    """

    def __init__(self, path: Path, mask: Mask = NOTHING_PRIVATE) -> None:
        super().__init__(path)
        self._engine = writing_engine(path)
        self.mask = mask
        self._open: sa.Connection | None = None
        self._touched: list[Rows] = []
        self._has_written = False
        # Set when it was found whole.
        self.watch: Watch | None = None

    def close(self) -> None:
        """Leave the store; it is entered again if something is asked or written later."""
        if self._has_written:
            self._note_entries()
        super().close()
        self._engine.dispose()

    def _note_entries(self) -> None:
        """Keep how many entries there are now, unless others hold the ledger."""
        with contextlib.suppress(LedgerError), impatient(), self.driver() as driver:
            is_whole = self.watch is not None and self.watch.holds()
            note_entries(self.path, driver, is_whole=is_whole)

    def insert(
        self, table: tables.Table, connection: sa.Connection | None = None, **values: Any
    ) -> int:
        """Insert a row with a new uid, in a separate transaction if none is given."""
        if connection is None:
            with self.transaction() as begun:
                return self.insert(table, begun, **values)
        row = {"uid": uuid.uuid4().hex, **values}
        key = insert_row(connection, table, row)
        self.touch(*((table, key) if table in tables.SEALED else (tables.RUN, row["run_id"])))
        return key

    def touch(self, table: tables.Table, first: int, last: int | None = None) -> None:
        """Have rows sealed at the end of this transaction; what belongs to a run, with it."""
        self._touched.append(Rows(table, first, first if last is None else last))

    def update(self, table: tables.Table, key: int, **values: Any) -> None:
        """Change a row, in a separate transaction."""
        with self.transaction() as connection:
            change_row(connection, table, key, values)
            self.touch(table, key)

    def insert_all(self, table: tables.Table, rows: list[dict[str, Any]]) -> None:
        """Insert rows, each with a new uid and the time, all or none."""
        with self.transaction() as connection:
            for row in rows:
                self.insert(table, connection, at=now(), **row)

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """What is written within is written as a whole, in one transaction; may be nested."""
        if self._open is not None:
            yield
            return
        with self.transaction() as connection:
            self._open = connection
            try:
                yield
            finally:
                self._open = None

    def _mask_touched(self, driver: sqlite3.Connection) -> None:
        """Replace what is private in the texts of what was written."""
        for rows in joined(self._touched) if self.mask.texts else ():
            of_it = tables.CHILDREN if rows.table is tables.RUN else ()
            for table, key in ((rows.table, "id"), *((child, "run_id") for child in of_it)):
                for name in (column.name for column in table.columns if column.free):
                    change = (
                        f'UPDATE "{table.name}" SET "{name}" = replace("{name}", ?, ?) '
                        f'WHERE "{key}" BETWEEN ? AND ? AND instr("{name}", ?)'
                    )
                    for private in self.mask.spelled:
                        values = (private, MASKED, rows.first, rows.last, private)
                        driver.execute(change, values)

    def _check_touched(self, driver: sqlite3.Connection) -> None:
        """Refuse what could not be read again: nothing is in a ledger that its check refuses."""
        for rows in joined(self._touched):
            for broken in broken_among(driver, rows):
                what = describe(driver, broken)
                raise BeyondLedgerError(f"{what}; nothing of it was recorded")

    @contextlib.contextmanager
    def transaction(self) -> Iterator[sa.Connection]:
        """A transaction that writes; what fails in it leaves the ledger as it was.

        It takes the right to write immediately: one that begins by reading would be refused the
        right as soon as another process has written meanwhile.
        """
        if self._open is not None:
            yield self._open
            return
        try:
            with self._engine.begin() as connection:
                driver = driver_of(connection)
                if self.watch is not None:
                    self.watch.look(driver)
                if self.mask.texts:
                    # What is replaced leaves no trace in the file.
                    driver.execute("PRAGMA secure_delete = ON")
                yield connection
                self._mask_touched(driver)
                self._check_touched(driver)
                seal_rows(driver, self._touched)
                if any(rows.table is tables.MARK for rows in self._touched):
                    # A damaged run is passed over for as long as it is excluded.
                    self.watch = None
            self._has_written |= bool(self._touched)
        except IntegrityError as error:
            raise BeyondLedgerError(
                "two things of this have one id, or one that the ledger has already; nothing of it "
                f"was recorded ({cause(error)})"
            ) from error
        except (SQLAlchemyError, *STORE_ERRORS) as error:
            raise LedgerError(
                f"{self.path}: cannot be written: {cause(error)}; what was recorded before is kept"
            ) from error
        finally:
            self._touched.clear()


def insert_row(connection: sa.Connection, table: tables.Table, row: Mapping[str, Any]) -> int:
    """Insert a row; returns its key."""
    inserted = connection.execute(_insertion(table), dict(row)).inserted_primary_key
    assert inserted is not None
    return int(inserted[0])


def insert_rows(
    connection: sa.Connection, table: tables.Table, rows: Iterable[Mapping[str, Any]]
) -> None:
    """Insert rows with the same columns."""
    if found := list(rows):
        connection.execute(_insertion(table), found)


def change_row(
    connection: sa.Connection, table: tables.Table, key: int, values: Mapping[str, Any]
) -> None:
    """Change columns of a row that has an id."""
    connection.execute(_change(table), {_KEY: key, **values})


# No column is called that.
_KEY = "key_of_row"


# Statements are made once: making one takes longer than carrying it out.
@functools.cache
def _insertion(table: tables.Table) -> sa.Insert:
    return sa.insert(schema.of(table))


@functools.cache
def _change(table: tables.Table) -> sa.Update:
    made = schema.of(table)
    return sa.update(made).where(made.c.id == sa.bindparam(_KEY))
