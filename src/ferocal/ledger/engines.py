"""Connections to the database of a ledger through which it is written."""

from __future__ import annotations

import contextlib
import functools
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import cast

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError

from ferocal.ledger.connecting import begin, connect


def writing_engine(path: Path) -> sa.Engine:
    """An engine for a ledger, whose transactions write."""
    engine = sa.create_engine(f"sqlite:///{path}", creator=functools.partial(connect, path))
    sa.event.listen(engine, "begin", lambda connection: begin(driver_of(connection), writes=True))
    return engine


def driver_of(connection: sa.Connection) -> sqlite3.Connection:
    """The connection of the driver behind one of SQLAlchemy, in the same transaction."""
    return cast("sqlite3.Connection", connection.connection.driver_connection)


@contextlib.contextmanager
def reading(path: Path) -> Iterator[sqlite3.Connection]:
    """A transaction that reads, for a moment; errors are those of the driver."""
    with contextlib.closing(connect(path)) as driver:
        begin(driver)
        yield driver
        driver.rollback()


@contextlib.contextmanager
def writing(path: Path) -> Iterator[sa.Connection]:
    """A transaction that writes, for a moment; errors are those of the driver."""
    engine = writing_engine(path)
    try:
        with engine.begin() as connection:
            yield connection
    except DBAPIError as error:
        raise error.orig or error from error
    finally:
        engine.dispose()
