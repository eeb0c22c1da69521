"""Connections to the database of a ledger, which wait while other processes use it."""

from __future__ import annotations

import functools
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import sqlalchemy as sa

# The option of a connection whose transactions write.
WRITES = "ferocal_writes"
# How long another process is waited for, in seconds.
_PATIENCE = 60.0
_patience = _PATIENCE
# It is waited for in pieces (s), between which Ctrl-C is heard: others may hold the ledger for as
# long as they like.
_PIECE = 0.2


class _PatientConnection(sqlite3.Connection):
    """A connection that waits in pieces, between which it can be interrupted."""

    def commit(self) -> None:
        _wait_in_pieces(super().commit)


def patient_engine(path: Path) -> sa.Engine:
    """An engine for a ledger, whose transactions wait up to a minute for other processes."""
    engine = sa.create_engine(
        f"sqlite:///{path}", connect_args={"factory": _PatientConnection, "timeout": _PIECE}
    )
    sa.event.listen(engine, "connect", _configure)
    sa.event.listen(engine, "begin", _begin)
    return engine


def _configure(connection: Any, _record: Any) -> None:
    # The driver would begin transactions by itself, but not before CREATE TABLE: a process
    # killed then would leave a ledger without its version. The engine begins them instead.
    connection.isolation_level = None
    # The rollback journal keeps the ledger in one file that can be carried elsewhere.
    for pragma in ("foreign_keys = ON", "synchronous = FULL"):
        # The second reads the schema, which another process may hold.
        _wait_in_pieces(functools.partial(connection.execute, f"PRAGMA {pragma}"))


_ANY = "SELECT 1 FROM sqlite_master LIMIT 1"


def _begin(connection: sa.Connection) -> None:
    driver = connection.connection.cursor()
    try:
        if not connection.get_execution_options().get(WRITES, False):
            driver.execute("BEGIN")
            # The first query gets the right to read, and with it all that follow.
            _wait_in_pieces(lambda: driver.execute(_ANY).fetchall())
            return
        # A transaction that reads first and writes later is refused immediately, without waiting,
        # when another has written in between. One that is going to write says so.
        _wait_in_pieces(lambda: driver.execute("BEGIN IMMEDIATE"))
    finally:
        driver.close()


@contextmanager
def impatient() -> Iterator[None]:
    """Within, a ledger that another process holds is waited for hardly at all."""
    global _patience
    before, _patience = _patience, _PIECE
    try:
        yield
    finally:
        _patience = before


def _wait_in_pieces(act: Callable[[], object]) -> None:
    end = time.monotonic() + _patience
    while True:
        try:
            act()
            return
        except sqlite3.OperationalError as error:
            busy = error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY
            if not busy or time.monotonic() >= end:
                raise
