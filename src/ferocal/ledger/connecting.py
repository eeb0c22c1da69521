"""Connections to the database of a ledger, which wait while other processes use it.

Where a process closes a file, it loses the locks that SQLite holds on it for other connections
("How To Corrupt An SQLite Database File", 2.2). So a ledger that is read as a file is kept open
until the process has no connection to it any more.
"""

from __future__ import annotations

import functools
import os
import sqlite3
import time
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

# How long another process is waited for, in seconds.
_PATIENCE = 60.0
_patience = _PATIENCE
# It is waited for in pieces (s), between which Ctrl-C is heard: others may hold the ledger for as
# long as they like.
_PIECE = 0.2


# Connections of this process, and the files of ledgers that it has read as such.
_connections: weakref.WeakSet[_PatientConnection] = weakref.WeakSet()
_files: list[BinaryIO] = []


class _PatientConnection(sqlite3.Connection):
    """A connection that waits in pieces, between which it can be interrupted."""

    path = Path()

    def commit(self) -> None:
        _wait_in_pieces(super().commit)

    def close(self) -> None:
        super().close()
        _connections.discard(self)
        for file in [f for f in _files if not any(_is_at(c.path, f) for c in _connections)]:
            _files.remove(file)
            file.close()


def _is_at(path: Path, file: BinaryIO) -> bool:
    try:
        return os.path.samestat(path.stat(), os.fstat(file.fileno()))
    except OSError:
        return False  # nothing is there any more


def connect(path: Path) -> sqlite3.Connection:
    """A connection to a ledger, which waits up to a minute for other processes.

    Raises
    ------
    sqlite3.Error
        When the file cannot be opened, or is held by others for longer.
    """
    driver = sqlite3.connect(
        path, timeout=_PIECE, factory=_PatientConnection, check_same_thread=False
    )
    driver.path = path.absolute()
    _connections.add(driver)
    # The driver would begin transactions by itself, but not before CREATE TABLE: a process
    # killed then would leave a ledger without its version. They are begun by `begin` instead.
    driver.isolation_level = None
    try:
        # The rollback journal keeps the ledger in one file that can be carried elsewhere.
        for pragma in ("foreign_keys = ON", "synchronous = FULL"):
            # The second reads the schema, which another process may hold.
            _wait_in_pieces(functools.partial(driver.execute, f"PRAGMA {pragma}"))
    except BaseException:
        driver.close()
        raise
    return driver


# So many bytes are read together.
_BLOCK = 2**20
_ANY = "SELECT 1 FROM sqlite_master LIMIT 1"


def begin(driver: sqlite3.Connection, *, writes: bool = False) -> None:
    """Begin a transaction, once other processes allow it.

    Raises
    ------
    sqlite3.OperationalError
        When others hold the ledger for longer than a minute.
    """
    if writes:
        # A transaction that reads first and writes later is refused immediately, without waiting,
        # when another has written in between. One that is going to write says so.
        _wait_in_pieces(lambda: driver.execute("BEGIN IMMEDIATE"))
        return
    driver.execute("BEGIN")
    try:
        # The first query gets the right to read, and with it all that follow.
        _wait_in_pieces(lambda: driver.execute(_ANY).fetchall())
    except BaseException:
        driver.rollback()
        raise


def contents(driver: sqlite3.Connection, path: Path) -> Iterator[bytes]:
    """The bytes of a ledger, part by part, as the open transaction sees it.

    Raises
    ------
    sqlite3.Error
        When it cannot be read.
    """
    (mode,) = driver.execute("PRAGMA journal_mode").fetchone()
    # In other modes a part of it is elsewhere; other systems lock files in other ways.
    if os.name != "posix" or mode != "delete":
        yield driver.serialize()
        return
    try:
        file = path.open("rb", buffering=0)
        _files.append(file)
        while part := file.read(_BLOCK):
            yield part
    except OSError as error:
        raise sqlite3.OperationalError(str(error)) from error


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
