"""Seals: a digest of every row with all that belongs to it, and a chain of these per session.

A seal is made in the transaction that writes the row. It shows damage (a medium that fails, a copy
that was cut short, an edit by hand); it is no signature, for who can write the ledger can seal too.
Rows are read as the driver has them, with texts as bytes, so that nothing depends on how they are
decoded.
"""

from __future__ import annotations

import hashlib
import itertools
import operator
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple, cast

import sqlalchemy as sa

from ferocal.ledger import schema

# The key of the time at which everything in a ledger was sealed, where that was later.
SEALED_AT = "sealed_at"
_SIZE = 16
_START = bytes(_SIZE)
# What is longer is taken by its own digest.
_LONG = 4096
# What belongs to a run, and is sealed with it.
_CHILDREN = (schema.reading, schema.absence, schema.trace, schema.output)
# The session of a row, by its table; rows of other tables belong to none, which is 0.
_SESSIONS = {
    "session": '"session"."id"',
    "visit": '"visit"."session_id"',
    "run": '(SELECT v."session_id" FROM "visit" v WHERE v."id" = "run"."visit_id")',
}
SEALED: tuple[sa.Table, ...] = (
    schema.metric, schema.facts, schema.session, schema.visit, schema.run, schema.step,
    schema.mark, schema.correction, schema.note, schema.noise_floor, schema.claim,
    schema.bench_look, schema.reference, schema.look,
)  # fmt: skip


class Seal(NamedTuple):
    """The digest of a row; ``session`` is the key of its session, 0 where it belongs to none."""

    session: int
    kind: str
    key: int
    digest: bytes


class Rows(NamedTuple):
    """Rows of a table with consecutive keys, the last included."""

    table: sa.Table
    first: int
    last: int


def driver_of(connection: sa.Connection) -> sqlite3.Connection:
    """The connection of the driver."""
    return cast("sqlite3.Connection", connection.connection.driver_connection)


@contextmanager
def texts_as_bytes(driver: sqlite3.Connection) -> Iterator[None]:
    """Have texts read as they are kept, whatever is in them."""
    before = driver.text_factory
    driver.text_factory = bytes
    try:
        yield
    finally:
        driver.text_factory = before


def _columns(table: sa.Table, lead: Sequence[str]) -> str:
    """A query of all columns of a table, behind leading ones."""
    chosen = ", ".join([*lead, *(f'"{table.name}"."{column.name}"' for column in table.columns)])
    return f'SELECT {chosen} FROM "{table.name}"'


def _between(table: sa.Table, key: str) -> str:
    name = f'"{table.name}"."{key}"'
    # A run has its rows in the order of their own keys.
    order = "metric_id" if "metric_id" in table.c else "stream" if "stream" in table.c else "id"
    then = "" if order == key else f', "{table.name}"."{order}"'
    return f" WHERE {name} BETWEEN ? AND ? ORDER BY {name}{then}"


_OWN = {
    table.name: _columns(table, [f'"{table.name}"."id"', _SESSIONS.get(table.name, "0")])
    + _between(table, "id")
    for table in SEALED
}
_OF_RUNS = [
    (
        _columns(table, [f'"{table.name}"."run_id"']) + _between(table, "run_id"),
        any(isinstance(column.type, sa.LargeBinary) for column in table.columns),
    )
    for table in _CHILDREN
]


class _Followers:
    """The rows of one table that belong to each of the rows of another, which come in order."""

    def __init__(self, rows: Iterable[tuple[Any, ...]], *, has_blobs: bool) -> None:
        self._has_blobs = has_blobs
        # The key in front of each of them says to which run they belong.
        self._groups = itertools.groupby(rows, operator.itemgetter(0))
        self._next = next(self._groups, None)

    def of(self, key: int) -> list[tuple[Any, ...]]:
        """Those of a key; those of keys that did not come are passed over."""
        while self._next is not None and self._next[0] <= key:
            rows = list(self._next[1]) if self._next[0] == key else []
            self._next = next(self._groups, None)
            if rows:
                return _short(rows) if self._has_blobs else rows
        return []


def digests(driver: sqlite3.Connection, rows: Rows) -> Iterator[Seal]:
    """The seals that rows should have, as they are now; texts are to be read as bytes."""
    name, ends = rows.table.name, (rows.first, rows.last)
    followers = (
        [_Followers(driver.execute(q, ends), has_blobs=blobs) for q, blobs in _OF_RUNS]
        if name == "run"
        else []
    )
    for row in driver.execute(_OWN[name], ends):
        key, session = row[:2]
        content = [row, *(follower.of(key) for follower in followers)]
        digest = hashlib.blake2b(ascii(content).encode(), digest_size=_SIZE).digest()
        yield Seal(session or 0, name, key, digest)


def _short(rows: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    """Rows in which traces and outputs are replaced by their digests."""
    return [
        tuple(
            hashlib.blake2b(value, digest_size=_SIZE).digest()
            if isinstance(value, bytes) and len(value) > _LONG
            else value
            for value in row
        )
        for row in rows
    ]


def linked(head: bytes, seal: Seal) -> bytes:
    """The head of a chain with one more seal."""
    link = b"%b%b%d %b" % (head, seal.kind.encode(), seal.key, seal.digest)
    return hashlib.blake2b(link, digest_size=_SIZE).digest()


def seal_rows(connection: sa.Connection, touched: Iterable[Rows]) -> None:
    """Seal rows that were written in this transaction, each in the chain of its session."""
    driver = driver_of(connection)
    chains: dict[int, tuple[int, bytes]] = {}
    with texts_as_bytes(driver):
        for rows in joined(touched):
            made = []
            for seal in digests(driver, rows):
                if seal.session not in chains:
                    chains[seal.session] = _chain(driver, seal.session)
                length, head = chains[seal.session]
                chains[seal.session] = (length + 1, linked(head, seal))
                made.append(seal)
            driver.executemany(_ADD, made)
    driver.executemany(_MOVE, [(key, *chain) for key, chain in chains.items()])


_ADD = 'INSERT INTO "seal" ("session", "kind", "key", "digest") VALUES (?, ?, ?, ?)'
_MOVE = 'INSERT OR REPLACE INTO "chain" ("session", "length", "head") VALUES (?, ?, ?)'


def _chain(driver: sqlite3.Connection, session: int) -> tuple[int, bytes]:
    query = 'SELECT "length", "head" FROM "chain" WHERE "session" = ?'
    return driver.execute(query, (session,)).fetchone() or (0, _START)


def seal_all(connection: sa.Connection) -> None:
    """Seal everything that is there, in new chains."""
    for table in (schema.seal, schema.chain):
        connection.execute(sa.delete(table))
    seal_rows(connection, (every(table) for table in SEALED))


def every(table: sa.Table) -> Rows:
    """All rows of a table."""
    return Rows(table, -(2**62), 2**62)


def joined(touched: Iterable[Rows]) -> list[Rows]:
    """The same rows, each once, in as few ranges as possible."""
    found: list[Rows] = []
    places = {table: n for n, table in enumerate(SEALED)}
    for rows in sorted(touched, key=lambda rows: (places[rows.table], rows.first)):
        last = found[-1] if found else None
        if last is not None and last.table is rows.table and rows.first <= last.last + 1:
            found[-1] = last._replace(last=max(last.last, rows.last))
        else:
            found.append(rows)
    return found


class Broken(NamedTuple):
    """A row that is not as it was written: its table and key, and what is wrong."""

    kind: str
    key: int
    what: str


CHANGED = "is not as it was written"
LOST = "is lost"
UNKNOWN = "was not written by Ferocal"


def broken_seals(driver: sqlite3.Connection) -> Iterator[Broken]:
    """Rows that are not as they were sealed, lost ones, and sessions whose chain does not hold."""
    with texts_as_bytes(driver):
        latest: dict[str, dict[int, bytes]] = {table.name: {} for table in SEALED}
        chains: dict[int, tuple[int, bytes]] = {}
        query = 'SELECT "session", "kind", "key", "digest" FROM "seal" ORDER BY "id"'
        for session, kind, key, digest in driver.execute(query):
            seal = Seal(session, _text(kind), key, digest if isinstance(digest, bytes) else b"")
            length, head = chains.get(session, (0, _START))
            chains[session] = (length + 1, linked(head, seal))
            latest.setdefault(seal.kind, {})[key] = seal.digest
        for table in SEALED:
            yield from _broken_rows(driver, table, latest[table.name])
        kept = dict(_chains(driver))
        for session in sorted(kept.keys() | chains.keys(), key=str):
            if kept.get(session) != chains.get(session):
                yield Broken("session", session, "has a chain of seals that does not hold")


def _broken_rows(
    driver: sqlite3.Connection, table: sa.Table, sealed: dict[int, bytes]
) -> Iterator[Broken]:
    for seal in digests(driver, every(table)):
        expected = sealed.pop(seal.key, None)
        if expected != seal.digest:
            yield Broken(table.name, seal.key, UNKNOWN if expected is None else CHANGED)
    for key in sealed:
        yield Broken(table.name, key, LOST)


def _chains(driver: sqlite3.Connection) -> Iterator[tuple[int, tuple[int, bytes]]]:
    for session, length, head in driver.execute('SELECT "session", "length", "head" FROM "chain"'):
        yield session, (length, head)


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
