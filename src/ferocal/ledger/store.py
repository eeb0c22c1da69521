"""The ledger as a store: transactions that write, queries that read."""

from __future__ import annotations

import contextlib
import itertools
import sqlite3
import uuid
from collections.abc import Iterable, Iterator
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, cast

import sqlalchemy as sa
from sqlalchemy.exc import SQLAlchemyError

from ferocal.errors import BeyondLedgerError, LedgerError
from ferocal.ledger import schema
from ferocal.ledger.connecting import WRITES, impatient
from ferocal.ledger.integrity.check import describe
from ferocal.ledger.integrity.memory import note_entries
from ferocal.ledger.integrity.seals import Rows, driver_of, joined, seal_rows
from ferocal.ledger.integrity.shapes import broken_among
from ferocal.study.masking import MASKED, NOTHING_PRIVATE, Mask
from ferocal.terms.times import now

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

# What goes wrong with a store; the driver itself does not decode what a damaged file says.
STORE_ERRORS = (SQLAlchemyError, sqlite3.Error, UnicodeDecodeError)


class Ledger:
    """Everything recorded in a study; append-only but for the ending of open runs.

    What is private by its ``mask`` is not kept, whoever writes it.

    Methods raise `LedgerError` when the store cannot be read or written.
    """

    def __init__(self, engine: sa.Engine, path: Path, mask: Mask = NOTHING_PRIVATE) -> None:
        self._engine = engine
        self.path = path
        self.mask = mask
        self._open: sa.Connection | None = None
        self._snapshot: sa.Connection | None = None
        self._touched: list[Rows] = []
        self._has_written = False

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._has_written:
            self._note_entries()
        self._engine.dispose()

    def _note_entries(self) -> None:
        """Keep how many entries there are now, unless others hold the ledger."""
        with contextlib.suppress(LedgerError), impatient(), self.driver() as driver:
            note_entries(self.path, driver)

    def insert(
        self, table: sa.Table, connection: sa.Connection | None = None, **values: Any
    ) -> int:
        """Insert a row with a new uid, in a separate transaction if none is given."""
        if connection is None:
            with self.transaction() as begun:
                return self.insert(table, begun, **values)
        row = {"uid": uuid.uuid4().hex, **values}
        key = key_of(connection.execute(sa.insert(table).values(row)))
        self.touch(*((table, key) if table in schema.SEALED else (schema.run, row["run_id"])))
        return key

    def touch(self, table: sa.Table, first: int, last: int | None = None) -> None:
        """Have rows sealed at the end of this transaction; what belongs to a run, with it."""
        self._touched.append(Rows(table, first, first if last is None else last))

    def update(self, table: sa.Table, key: int, **values: Any) -> None:
        """Change a row, in a separate transaction."""
        with self.transaction() as connection:
            connection.execute(sa.update(table).where(table.c.id == key).values(**values))
            self.touch(table, key)

    @contextlib.contextmanager
    def snapshot(self) -> Iterator[None]:
        """Within, all queries see the ledger as it is at the first of them; may be nested.

        Others cannot write meanwhile, and neither can this process: nothing is written within.
        """
        if self._snapshot is not None:
            yield
            return
        with self._engine.connect() as connection, connection.begin():
            self._snapshot = connection
            try:
                yield
            finally:
                self._snapshot = None

    @contextlib.contextmanager
    def _reading(self) -> Iterator[sa.Connection]:
        """A connection in a transaction that reads: that of the snapshot, if there is one."""
        try:
            if self._snapshot is not None:
                yield self._snapshot
                return
            with self._engine.connect() as connection, connection.begin():
                yield connection
        except STORE_ERRORS as error:
            raise LedgerError(f"{self.path}: cannot be read: {cause(error)}") from error

    def rows(self, query: sa.Select[Any]) -> list[Any]:
        """All rows of a query."""
        with self._reading() as connection:
            return list(connection.execute(query))

    def numbers(self, query: sa.Select[Any], columns: int) -> NDArray[np.float64]:
        """All rows of a query of numbers, none of them missing, shape (n, columns)."""
        import numpy as np

        with self._reading() as connection:
            # Rows of the driver itself: there may be a million.
            rows = cast("Iterable[tuple[float, ...]]", connection.execute(query).cursor)
            flat = np.fromiter(itertools.chain.from_iterable(rows), dtype=np.float64)
        return flat.reshape(-1, columns)

    @contextlib.contextmanager
    def driver(self) -> Iterator[sqlite3.Connection]:
        """The connection of the driver, in a transaction that reads."""
        with self._reading() as connection:
            yield driver_of(connection)

    def mappings(self, query: sa.Select[Any]) -> list[dict[str, Any]]:
        """All rows of a query, each with the names of its columns."""
        return [dict(row._mapping) for row in self.rows(query)]

    def insert_all(self, table: sa.Table, rows: list[dict[str, Any]]) -> None:
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

    def _mask_touched(self, connection: sa.Connection) -> None:
        """Replace what is private in the texts of what was written."""
        driver = driver_of(connection)
        for rows in joined(self._touched) if self.mask.texts else ():
            for column in schema.FREE_TEXTS:
                table, name = column.table, column.name
                of_run = rows.table is schema.run and table in schema.CHILDREN
                if not (table is rows.table or of_run):
                    continue
                key, ends = "run_id" if of_run else "id", (rows.first, rows.last)
                where = f'"{key}" BETWEEN ? AND ? AND instr("{name}", ?)'
                change = (
                    f'UPDATE "{table.name}" SET "{name}" = replace("{name}", ?, ?) WHERE {where}'
                )
                for private in self.mask.spelled:
                    driver.execute(change, (private, MASKED, *ends, private))

    def _check_touched(self, connection: sa.Connection) -> None:
        """Refuse what could not be read again: nothing is in a ledger that its check refuses."""
        driver = driver_of(connection)
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
            with self._engine.connect() as connection:
                connection = connection.execution_options(**{WRITES: True})
                with connection.begin():
                    if self.mask.texts:
                        # What is replaced leaves no trace in the file.
                        connection.exec_driver_sql("PRAGMA secure_delete = ON")
                    yield connection
                    self._mask_touched(connection)
                    self._check_touched(connection)
                    seal_rows(connection, self._touched)
                self._has_written |= bool(self._touched)
        except sa.exc.IntegrityError as error:
            raise BeyondLedgerError(
                "two things of this have one id, or one that the ledger has already; nothing of it "
                f"was recorded ({cause(error)})"
            ) from error
        except STORE_ERRORS as error:
            raise LedgerError(
                f"{self.path}: cannot be written: {cause(error)}; what was recorded before is kept"
            ) from error
        finally:
            self._touched.clear()


def key_of(inserted: sa.CursorResult[Any]) -> int:
    """The key of the row that was inserted."""
    key = inserted.inserted_primary_key
    assert key is not None
    return int(key[0])


def cause(error: Exception) -> str:
    """What the database itself said."""
    return str(getattr(error, "orig", None) or error)
