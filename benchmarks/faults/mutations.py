"""Inputs made wrong at random: bytes, tokens, values in a structure, members of an archive."""

from __future__ import annotations

import contextlib
import io
import json
import random
import re
import sqlite3
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

# What programs and people write where nobody expects it.
TOKENS = (
    b"", b"0", b"-0", b"-1", b"1e999", b"1e-999", b"nan", b"NaN", b"inf", b"-Infinity", b"null",
    b"true", b"9" * 40, b"9" * 6000, b"0x10", b"1_000", b"1,5", b"1.234,5", b"12:30", b"\x00",
    b"\xff\xfe", b"\xef\xbb\xbf", b"\xed\xa0\x80", b'"\\ud800"', b"\x1b[2J", "\u202e".encode(),
    "\u2028".encode(), "µs".encode(), "−3".encode(), b"=1+1", b"@x", b"'", b'"', b'"""', b"\r",
    b"\n\n", b"\t", b";", b",", b"|", b"[", b"]", b"{", b"}", b"[" * 3000, b"{\"a\":" * 3000, b"#",
    b"../../x", b"/etc/passwd", b"%s", b"{study}", b"$", b"\\", b"1e308", b"1.7976931348623157e309",
    b"2026-13-45", b"2026-02-30T25:61", b"0001-01-01", b"<5", b">5", b"5..", b"5..3", b"n/a",
    b"a" * 5000, b"1979-05-27T07:32:00Z", b"low", b"off", b"on", b"flight", b"score",
    b"configuration",
)  # fmt: skip
VALUES: tuple[Any, ...] = (
    None, True, False, 0, -1, 1e308, 10**40, float("nan"), float("inf"), "", " ", "\x00", "\ud800",
    "\u202ex", [], {}, [1, 2], {"a": 1}, [[[[]]]], "off", "on", "flight", "9" * 5000, "2026-02-30",
)  # fmt: skip
_WORDS = re.compile(rb"[^\s,;\"'=\[\]{}<>/]+")


def leave(content: bytes, rng: random.Random) -> bytes:
    """The content as it is, where something else is mutated."""
    return content


def mutate_bytes(content: bytes, rng: random.Random) -> bytes:
    """A few changes of bytes, stretches, or words."""
    data = bytearray(content)
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        rng.choice((_flip, _overwrite, _insert, _remove, _repeat, _cut, _replace_word))(data, rng)
    return bytes(data)


def _flip(data: bytearray, rng: random.Random) -> None:
    if data:
        data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)


def _stretch(data: bytearray, rng: random.Random) -> slice:
    start = rng.randrange(len(data) + 1)
    return slice(start, start + rng.choice((1, 2, 8, 60)))


def _overwrite(data: bytearray, rng: random.Random) -> None:
    place = _stretch(data, rng)
    data[place] = rng.randbytes(len(data[place]))


def _insert(data: bytearray, rng: random.Random) -> None:
    place = rng.randrange(len(data) + 1)
    data[place:place] = rng.choice(TOKENS)


def _remove(data: bytearray, rng: random.Random) -> None:
    del data[_stretch(data, rng)]


def _repeat(data: bytearray, rng: random.Random) -> None:
    place = _stretch(data, rng)
    data[place.start : place.start] = data[place] * rng.choice((1, 2, 50))


def _cut(data: bytearray, rng: random.Random) -> None:
    del data[rng.randrange(len(data) + 1) :]


def _replace_word(data: bytearray, rng: random.Random) -> None:
    found = list(_WORDS.finditer(data))
    if found:
        start, end = rng.choice(found).span()
        data[start:end] = rng.choice(TOKENS)


def mutate_json(content: bytes, rng: random.Random) -> bytes:
    """A value or a name somewhere in a document replaced, else bytes."""
    if rng.random() < 0.4:
        return mutate_bytes(content, rng)
    document = json.loads(content)
    _replace_in(document, rng)
    return json.dumps(document, ensure_ascii=rng.random() < 0.7).encode("utf-8", "surrogatepass")


def mutate_json_lines(content: bytes, rng: random.Random) -> bytes:
    """The same for one of many lines."""
    lines = content.splitlines()
    place = rng.randrange(len(lines))
    lines[place] = mutate_json(lines[place], rng)
    if rng.random() < 0.1:
        lines.insert(place, rng.choice((b"", b" ", b"[]", b"3", b"null")))
    return b"\n".join(lines)


def _replace_in(part: Any, rng: random.Random) -> None:
    keys = list(range(len(part))) if isinstance(part, list) else list(part)
    if not keys:
        return
    key = rng.choice(keys)
    if isinstance(part[key], (list, dict)) and rng.random() < 0.9:
        _replace_in(part[key], rng)
    elif isinstance(part, dict) and rng.random() < 0.2:
        part[str(rng.choice(VALUES))] = part.pop(key)
    else:
        part[key] = rng.choice(VALUES)


def mutate_archive(content: bytes, rng: random.Random) -> bytes:
    """A member of an archive, such as a sheet of a workbook, else bytes of the whole."""
    if rng.random() < 0.3:
        return mutate_bytes(content, rng)
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as source, zipfile.ZipFile(buffer, "w") as target:
        chosen = rng.choice(source.namelist())
        for name in source.namelist():
            member = source.read(name)
            if name == chosen:
                if rng.random() < 0.05:
                    continue
                member = mutate_bytes(member, rng)
            target.writestr(name, member)
    return buffer.getvalue()


_ODD_ARRAYS = (
    lambda n: pa.array([None] * n),
    lambda n: pa.array([True] * n),
    lambda n: pa.array([[1, 2]] * n),
    lambda n: pa.array([{"a": 1}] * n),
    lambda n: pa.array([b"\xff\xfe"] * n),
    lambda n: pa.array([1e400] * n),
    lambda n: pa.array([float("nan")] * n),
    lambda n: pa.array(["\x00x"] * n),
    lambda n: pa.array([2**63 - 1] * n),
    lambda n: pa.array([0] * n, pa.timestamp("ns")),
    lambda n: pa.array([0] * n, pa.duration("us")),
    lambda n: pa.array([0] * n, pa.date32()),
    lambda n: pa.array([0] * n, pa.time64("us")),
    lambda n: pa.array([1] * n, pa.decimal128(38, 3)),
    lambda n: pa.array(["off"] * n).dictionary_encode(),
    lambda n: pa.array([7] * n, pa.int64()).dictionary_encode(),
    lambda n: pa.Array.from_buffers(
        pa.string(), n, [None, pa.array([0, 2] + [2] * (n - 1), pa.int32()).buffers()[1],
                         pa.py_buffer(b"\xff\xfe")]
    ),
)  # fmt: skip


def mutate_parquet(content: bytes, rng: random.Random) -> bytes:
    """Columns of odd types, odd metadata and names, else bytes."""
    if rng.random() < 0.5:
        return mutate_bytes(content, rng)
    table = pq.read_table(pa.BufferReader(content))
    metadata = dict(table.schema.metadata or {})
    kind = rng.randrange(3)
    if kind == 0 and table.num_columns:
        place = rng.randrange(table.num_columns)
        array = rng.choice(_ODD_ARRAYS)(table.num_rows)
        table = table.set_column(place, table.column_names[place], array)
    elif kind == 1:
        names = list(table.column_names)
        names[rng.randrange(len(names))] = rng.choice(("", " ", "value", "configuration", "\x00"))
        table = table.rename_columns(names)
    for name in list(metadata) or ([b"ferocal"] if kind == 2 else []):
        if kind == 2 or rng.random() < 0.3:
            metadata[name] = mutate_json(metadata.get(name, b'{"kind": "frames"}'), rng)
    if kind == 2 and rng.random() < 0.3:
        metadata[rng.choice((b"pandas", b"ferocal", b"\xff"))] = rng.choice(TOKENS) or b"x"
    buffer = io.BytesIO()
    table = table.replace_schema_metadata(metadata)
    pq.write_table(table, buffer, compression=rng.choice(("zstd", "snappy", "gzip", "none")))
    return buffer.getvalue()


def mutate_ledger(content: bytes, rng: random.Random) -> bytes:
    """A value of a row changed as by another program, sealed by it or not, else bytes."""
    if rng.random() < 0.5:
        return mutate_bytes(content, rng)
    from ferocal.ledger.integrity.seals import seal_all

    with tempfile.NamedTemporaryFile(suffix=".sqlite") as file:
        Path(file.name).write_bytes(content)
        with contextlib.closing(sqlite3.connect(file.name)) as driver, driver:
            _change_row(driver, rng)
            try:
                if rng.random() < 0.5:
                    seal_all(driver)
            except (sqlite3.Error, TypeError, ValueError, AttributeError):
                pass  # what cannot be sealed is left as it is
        return Path(file.name).read_bytes()


def _change_row(connection: Any, rng: random.Random) -> None:
    tables = [
        name
        for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        if connection.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0]
    ]
    table = rng.choice(tables)
    columns = [row[1] for row in connection.execute(f'PRAGMA table_info("{table}")')]
    value = rng.choice(
        (None, 0, -1, 2**62, 1e308, float("inf"), "", "x", "\x1b[31mx", "\u202ex", b"\xff", "[]",
         "{}", "[1]", '{"a": NaN}', "[" * 3000, "../../x", "9" * 5000, "2026-02-30", "running")
    )  # fmt: skip
    try:
        connection.execute("PRAGMA ignore_check_constraints = ON")
        (row,) = rng.choice(connection.execute(f'SELECT rowid FROM "{table}"').fetchall())
        change = f'UPDATE "{table}" SET "{rng.choice(columns)}" = ? WHERE rowid = ?'
        connection.execute(change, (value, row))
    except sqlite3.Error:
        pass  # the database does not let every value in
