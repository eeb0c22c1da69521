"""The ledger as a store that is read: queries in SQL, by the driver of the database itself."""

from __future__ import annotations

import contextlib
import itertools
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from ferocal.errors import LedgerError
from ferocal.ledger.connecting import begin, connect

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

# So many rows are taken from the driver together.
_PART = 20_000
# What goes wrong with a store; the driver itself does not decode what a damaged file says.
STORE_ERRORS = (sqlite3.Error, UnicodeDecodeError)


class Ledger:
    """Everything recorded in a study, as it is read.

    Queries are SQL as several databases understand it; values in them are "?". Methods raise
    `LedgerError` when the store cannot be read.
    """

    def __init__(self, path: Path, store: Path | None = None) -> None:
        """Read what is in a ``store``, which is the ledger at ``path`` or a copy of it."""
        self.path = path
        self._store = path if store is None else store
        self._driver: sqlite3.Connection | None = None
        self._is_reading = False

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Leave the store; it is entered again if something is asked later."""
        if self._driver is not None:
            self._driver.close()
            self._driver = None

    @contextlib.contextmanager
    def snapshot(self) -> Iterator[None]:
        """Within, all queries see the ledger as it is at the first of them; may be nested.

        Others cannot write meanwhile, and neither can this process: nothing is written within.
        """
        if self._is_reading:
            yield
            return
        with self._explained():
            if self._driver is None:
                self._driver = connect(self._store)
            begin(self._driver)
        self._is_reading = True
        try:
            yield
        finally:
            self._is_reading = False
            with self._explained():
                self._driver.rollback()

    @contextlib.contextmanager
    def driver(self) -> Iterator[sqlite3.Connection]:
        """The connection of the driver, in a transaction that reads; may be nested."""
        with self._explained(), self.snapshot():
            assert self._driver is not None
            yield self._driver

    @contextlib.contextmanager
    def _explained(self) -> Iterator[None]:
        """Errors of the store, as errors of this ledger."""
        try:
            yield
        except STORE_ERRORS as error:
            raise LedgerError(f"{self.path}: cannot be read: {cause(error)}") from error

    def rows(self, query: str, values: Sequence[Any] = ()) -> list[Any]:
        """All rows of a query."""
        with self.driver() as driver:
            return driver.execute(query, values).fetchall()

    def numbers(self, query: str, columns: int) -> NDArray[np.float64]:
        """All rows of a query of numbers, none of them missing, shape (n, columns)."""
        import numpy as np

        with self.driver() as driver:
            cursor, parts = driver.execute(query), [np.zeros(0)]
            # In parts: all rows together take several times the memory of the numbers.
            while rows := cursor.fetchmany(_PART):
                flat = itertools.chain.from_iterable(rows)
                parts.append(np.fromiter(flat, np.float64, len(rows) * columns))
        return np.concatenate(parts).reshape(-1, columns)


def cause(error: Exception) -> str:
    """What the database itself said."""
    return str(getattr(error, "orig", None) or error)
