"""Whether a ledger that was found whole has been written by this process alone since."""

from __future__ import annotations

import sqlite3
import time

# For so long (s) nothing else is taken to have changed it. What is measured for hours is checked
# again: a medium may fail meanwhile.
_LASTS = 120.0


class Watch:
    """A watch over a ledger, from the check that found it whole.

    The database tells a connection whether others have committed anything (SQLite, "PRAGMA
    data_version").
    """

    def __init__(self, reader: sqlite3.Connection) -> None:
        """Begin in the transaction in which the ledger was checked."""
        self._begun = time.monotonic()
        self._driver, self._version = reader, _version(reader)
        self._is_alone = True

    def look(self, writer: sqlite3.Connection) -> None:
        """Look whether others have written, in a transaction that has the right to write."""
        self._is_alone &= self._sees_no_others()
        self._driver, self._version = writer, _version(writer)

    def holds(self) -> bool:
        """Whether nothing but what this process wrote is new, in a transaction that reads."""
        lasts = time.monotonic() - self._begun < _LASTS
        return lasts and self._is_alone and self._sees_no_others()

    def _sees_no_others(self) -> bool:
        try:
            return _version(self._driver) == self._version
        except sqlite3.ProgrammingError:
            return False  # a connection that was closed saw nothing of what came then


def _version(driver: sqlite3.Connection) -> int:
    return int(driver.execute("PRAGMA data_version").fetchone()[0])
