"""Seals: a digest of every row with all that belongs to it, and one chain of all of these.

A seal is made in the transaction that writes the row. It shows damage (a medium that fails, a copy
that was cut short, an edit by hand); it is no signature, for who can write the ledger can seal too.
Rows are read as the driver has them, with texts as bytes, so that nothing depends on how they are
decoded. Ledgers of version 7 have a chain per session.
"""

from __future__ import annotations

import functools
import hashlib
import itertools
import operator
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple

from ferocal.ledger import tables
from ferocal.ledger.tables import Table

# The key of the time at which everything in a ledger was sealed, where that was later.
SEALED_AT = "sealed_at"
# The key of what tells a ledger from others, and is the same in its copies.
LEDGER_ID = "ledger"
# The first version with seals, in a chain for each session.
FIRST_SEALED = 7
_SIZE = 16
# So many seals are written together.
_PART = 20_000
# What is longer is taken by its own digest.
_LONG = 4096
# In version 7, the session of a row by its table; rows of other tables belong to none, which is 0.
_SESSIONS = {
    "session": '"session"."id"',
    "visit": '"visit"."session_id"',
    "run": '(SELECT v."session_id" FROM "visit" v WHERE v."id" = "run"."visit_id")',
}


class Seal(NamedTuple):
    """The digest of a row, by the name of its table and its key."""

    kind: str
    key: int
    digest: bytes


class Chain(NamedTuple):
    """So many seals, and the last link of their chain."""

    length: int
    head: bytes

    def add(self, seal: Seal) -> Chain:
        """The chain with one more seal."""
        link = b"%b%b%d %b" % (self.head, seal.kind.encode(), seal.key, seal.digest)
        return Chain(self.length + 1, hashlib.blake2b(link, digest_size=_SIZE).digest())


_NO_SEALS = Chain(0, bytes(_SIZE))


class Rows(NamedTuple):
    """Rows of a table with consecutive keys, the last included."""

    table: Table
    first: int
    last: int


@contextmanager
def texts_as_bytes(driver: sqlite3.Connection) -> Iterator[None]:
    """Have texts read as they are kept, whatever is in them."""
    before = driver.text_factory
    driver.text_factory = bytes
    try:
        yield
    finally:
        driver.text_factory = before


def _columns(table: Table, lead: Sequence[str], version: int) -> str:
    """A query of all columns that a table has in a version, behind leading ones."""
    names = [column.name for column in table.columns_of(version)]
    chosen = ", ".join([*lead, *(f'"{table.name}"."{name}"' for name in names)])
    return f'SELECT {chosen} FROM "{table.name}"'


def _between(table: Table, key: str) -> str:
    name = f'"{table.name}"."{key}"'
    # A run has its rows in the order of their keys.
    order = next(name for name in ("metric_id", "stream", "id") if table.has(name))
    then = "" if order == key else f', "{table.name}"."{order}"'
    return f" WHERE {name} BETWEEN ? AND ? ORDER BY {name}{then}"


@functools.cache
def _own_rows(table: Table, version: int) -> str:
    lead = [f'"{table.name}"."id"']
    if version == FIRST_SEALED:
        lead.append(_SESSIONS.get(table.name, "0"))
    return _columns(table, lead, version) + _between(table, "id")


_OF_RUNS = [
    (
        _columns(table, [f'"{table.name}"."run_id"'], tables.SCHEMA_VERSION)
        + _between(table, "run_id"),
        any(column.holds == "blob" for column in table.columns),
    )
    for table in tables.CHILDREN
]


class _Followers:
    """The rows of one table that belong to each of the rows of another, which come in order."""

    def __init__(self, rows: Iterable[tuple[Any, ...]], *, has_blobs: bool) -> None:
        self._has_blobs = has_blobs
        # The key in front of each of them says to which run they belong.
        self._groups = itertools.groupby(rows, operator.itemgetter(0))
        self._next = next(self._groups, None)

    @property
    def has_some(self) -> bool:
        """Whether any are left."""
        return self._next is not None

    def of(self, key: int) -> list[tuple[Any, ...]]:
        """Those of a key; those of keys that did not come are passed over."""
        while self._next is not None and self._next[0] <= key:
            rows = list(self._next[1]) if self._next[0] == key else []
            self._next = next(self._groups, None)
            if rows:
                return _short(rows) if self._has_blobs else rows
        return []


def digests(
    driver: sqlite3.Connection, rows: Rows, version: int = tables.SCHEMA_VERSION
) -> Iterator[Seal]:
    """The seals that rows should have, as they are now; texts are to be read as bytes."""
    name, ends = rows.table.name, (rows.first, rows.last)
    queries = _OF_RUNS if name == "run" else []
    followers = [_Followers(driver.execute(q, ends), has_blobs=blobs) for q, blobs in queries]
    # Most runs have readings and nothing else, for which nothing is asked run by run.
    content: list[Any] = [None, *([] for _ in followers)]
    asked = [(n, follower.of) for n, follower in enumerate(followers, 1) if follower.has_some]
    for row in driver.execute(_own_rows(rows.table, version), ends):
        content[0] = row
        for n, of in asked:
            content[n] = of(row[0])
        digest = hashlib.blake2b(ascii(content).encode(), digest_size=_SIZE).digest()
        yield Seal(name, row[0], digest)


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


def seal_rows(driver: sqlite3.Connection, touched: Iterable[Rows]) -> None:
    """Seal rows that were written in this transaction, at the end of the chain."""
    chain = chain_of(driver)
    with texts_as_bytes(driver):
        for rows in joined(touched):
            found = digests(driver, rows)
            while made := list(itertools.islice(found, _PART)):
                chain = functools.reduce(Chain.add, made, chain)
                driver.executemany(_ADD, made)
    if chain.length:
        driver.execute(_MOVE, chain)


_ADD = 'INSERT INTO "seal" ("kind", "key", "digest") VALUES (?, ?, ?)'
_MOVE = 'INSERT OR REPLACE INTO "chain" ("id", "length", "head") VALUES (1, ?, ?)'
_SEALS = 'SELECT "kind", "key", "digest" FROM "seal" ORDER BY "id"'


def chain_of(driver: sqlite3.Connection) -> Chain:
    """How many seals a ledger has, and the last link of their chain, as it says."""
    query = 'SELECT "length", "head" FROM "chain" WHERE "id" = 1'
    length, head = driver.execute(query).fetchone() or _NO_SEALS
    # Whatever a damaged ledger says, which its check tells.
    return Chain(length, head) if (type(length), type(head)) == (int, bytes) else _NO_SEALS


def ledger_id(driver: sqlite3.Connection) -> str:
    """What tells one ledger from others, and is the same in its copies."""
    row = driver.execute('SELECT "value" FROM "about" WHERE "key" = ?', (LEDGER_ID,)).fetchone()
    return str(row[0]) if row is not None else ""


def chain_until(driver: sqlite3.Connection, length: int) -> Chain:
    """The chain of the first seals, so many as there are up to a length, as they are."""
    chain = _NO_SEALS
    for kind, key, digest in driver.execute(f"{_SEALS} LIMIT ?", (length,)):
        chain = chain.add(Seal(kind, key, digest))
    return chain


def seal_all(driver: sqlite3.Connection) -> None:
    """Seal everything that is there, in new chains."""
    for table in (tables.SEAL, tables.CHAIN):
        driver.execute(f'DELETE FROM "{table.name}"')
    seal_rows(driver, (every(table) for table in tables.SEALED))


def seal_as_damaged(driver: sqlite3.Connection, runs: Iterable[int]) -> None:
    """Have runs that were sealed as they are count as damaged, as they did before."""
    seals = [Seal("run", key, bytes(_SIZE)) for key in runs]
    chain = functools.reduce(Chain.add, seals, chain_of(driver))
    driver.executemany(_ADD, seals)
    driver.execute(_MOVE, chain)


def every(table: Table) -> Rows:
    """All rows of a table."""
    return Rows(table, -(2**62), 2**62)


def joined(touched: Iterable[Rows]) -> list[Rows]:
    """The same rows, each once, in as few ranges as possible."""
    found: list[Rows] = []
    places = {table: n for n, table in enumerate(tables.SEALED)}
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


def broken_seals(driver: sqlite3.Connection, version: int) -> Iterator[Broken]:
    """Rows that are not as they were sealed, lost ones, and a chain of seals that does not hold."""
    of, kept_by = ('"session"', '"session"') if version == FIRST_SEALED else ("1", '"id"')
    with texts_as_bytes(driver):
        latest: dict[str, dict[int, bytes]] = {table.name: {} for table in tables.SEALED}
        chains: dict[int, Chain] = {}
        query = f'SELECT {of}, "kind", "key", "digest" FROM "seal" ORDER BY "id"'
        for name, kind, key, digest in driver.execute(query):
            seal = Seal(_text(kind), key, digest if isinstance(digest, bytes) else b"")
            chains[name] = chains.get(name, _NO_SEALS).add(seal)
            latest.setdefault(seal.kind, {})[key] = seal.digest
        for table in tables.SEALED:
            yield from _broken_rows(driver, table, latest[table.name], version)
        kept = driver.execute(f'SELECT {kept_by}, "length", "head" FROM "chain"')
        if {name: Chain(*chain) for name, *chain in kept} != chains:
            yield Broken("chain", 0, "the chain of seals does not hold")


def _broken_rows(
    driver: sqlite3.Connection, table: Table, sealed: dict[int, bytes], version: int
) -> Iterator[Broken]:
    for seal in digests(driver, every(table), version):
        expected = sealed.pop(seal.key, None)
        if expected != seal.digest:
            yield Broken(table.name, seal.key, UNKNOWN if expected is None else CHANGED)
    for key in sealed:
        yield Broken(table.name, key, LOST)


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
