"""Tables from files: delimited text, JSON, JSON Lines, Parquet, spreadsheets."""

from __future__ import annotations

import csv
import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ferocal.errors import UsageError

if TYPE_CHECKING:
    import pandas as pd

# So many rows are in memory as text at one time.
CHUNK = 200_000
_SPREADSHEETS = {".xlsx": "openpyxl", ".ods": "odf"}


@dataclass(frozen=True)
class Chunk:
    """Some rows of a file, all as text, "" where there is nothing.

    ``first`` is the number of the first row as it is told to people: its line in a text
    file, its place among the rows in others.
    """

    frame: pd.DataFrame
    first: int
    word: str


class IntakeError(UsageError):
    """A file that cannot be taken in; says where and what would be right."""


def digest_of(path: Path) -> str:
    """The SHA-256 of a file.

    Raises
    ------
    IntakeError
        When it cannot be read.
    """
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        raise IntakeError(f"{path}: cannot be read: {error.strerror}") from None


def read_table(path: Path) -> Iterator[Chunk]:
    """The rows of a file, in chunks; what kind of file it is, its name tells.

    Raises
    ------
    IntakeError
        When it is empty, damaged, or of no known kind.
    """
    if not path.is_file():
        raise IntakeError(f"{path}: there is no such file")
    if path.stat().st_size == 0:
        raise IntakeError(f"{path}: is empty")
    kind = path.suffix.lower()
    readers = {".json": _read_json, ".jsonl": _read_lines, ".ndjson": _read_lines,
               ".parquet": _read_parquet, ".csv": _read_text, ".tsv": _read_text,
               ".txt": _read_text, **dict.fromkeys(_SPREADSHEETS, _read_spreadsheet)}  # fmt: skip
    if kind not in readers:
        raise IntakeError(f"{path}: not one of {', '.join(readers)}")
    rows = 0
    for chunk in readers[kind](path):
        rows += len(chunk.frame)
        yield chunk
    if not rows:
        raise IntakeError(f"{path}: has a header and no readings")


def _read_text(path: Path) -> Iterator[Chunk]:
    import pandas as pd

    encoding = _encoding(path)
    try:
        reader = pd.read_csv(
            path,
            sep=_delimiter(path, encoding),
            dtype=str,
            keep_default_na=False,
            encoding=encoding,
            chunksize=CHUNK,
            skipinitialspace=True,
            quoting=csv.QUOTE_MINIMAL,
        )
        line = 2
        with reader:
            for frame in reader:
                yield Chunk(frame.rename(columns=str.strip).fillna(""), line, "line")
                line += len(frame)
    except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError) as error:
        raise IntakeError(f"{path}: cannot be read as a table: {_plain(error)}") from None


def _plain(error: Exception) -> str:
    """What a reader said, without its own name in front."""
    return str(error).replace("Error tokenizing data. C error: ", "").splitlines()[0]


def _encoding(path: Path) -> str:
    raw = path.open("rb")
    with raw:
        start = raw.read(4)
    if start[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    try:
        with path.open(encoding="utf-8-sig") as file:
            while file.read(2**22):
                pass
    except UnicodeDecodeError:
        return "cp1252"  # what spreadsheets write where they do not write UTF-8
    return "utf-8-sig"


def _delimiter(path: Path, encoding: str) -> str:
    with path.open(encoding=encoding) as file:
        header = file.readline()
        sample = header + file.read(2**14)
    try:
        return csv.Sniffer().sniff(sample, delimiters=",;\t|").delimiter
    except csv.Error:
        return max(",;\t|", key=header.count)


def _read_json(path: Path) -> Iterator[Chunk]:
    try:
        document = json.loads(path.read_text(encoding="utf-8-sig"))
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise IntakeError(f"{path}: is not JSON: {error}") from None
    rows = document.get("readings") if isinstance(document, dict) else document
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise IntakeError(f'{path}: needs a list of objects, or one under "readings"')
    yield _of_objects(rows, 1, "row")


def _read_lines(path: Path) -> Iterator[Chunk]:
    rows: list[dict[str, Any]] = []
    first = 1
    with path.open(encoding="utf-8-sig") as file:
        for number, line in enumerate(file, 1):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except json.JSONDecodeError as error:
                raise IntakeError(f"{path}, line {number}: is not JSON: {error}") from None
            if not isinstance(row, dict):
                raise IntakeError(f"{path}, line {number}: is no object")
            rows.append(row)
            if len(rows) == CHUNK:
                yield _of_objects(rows, first, "line")
                rows, first = [], number + 1
    yield _of_objects(rows, first, "line")


def _of_objects(rows: list[dict[str, Any]], first: int, word: str) -> Chunk:
    import pandas as pd

    names = list(dict.fromkeys(name for row in rows for name in row))
    columns = {name: [_text(row.get(name)) for row in rows] for name in names}
    return Chunk(pd.DataFrame(columns, dtype=str), first, word)


def _text(value: Any) -> str:
    return "" if value is None else repr(value) if isinstance(value, float) else str(value)


def _read_parquet(path: Path) -> Iterator[Chunk]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with pq.ParquetFile(path) as file:
            row = 1
            for batch in file.iter_batches(CHUNK):
                columns = {
                    name: [_text(value) for value in batch.column(name).to_pylist()]
                    for name in batch.schema.names
                }
                yield Chunk(_frame(columns), row, "row")
                row += batch.num_rows
    except (pa.ArrowException, OSError) as error:
        raise IntakeError(f"{path}: is not a whole Parquet file: {_plain(error)}") from None


def _frame(columns: dict[str, list[str]]) -> pd.DataFrame:
    import pandas as pd

    return pd.DataFrame(columns, dtype=str)


def _read_spreadsheet(path: Path) -> Iterator[Chunk]:
    import pandas as pd

    engine: Any = _SPREADSHEETS[path.suffix.lower()]
    try:
        frame = pd.read_excel(path, dtype=object, engine=engine)
    except ImportError:
        raise IntakeError(
            f'{path}: spreadsheets need more: python3 -m pip install "ferocal[spreadsheets]"'
        ) from None
    except Exception as error:  # the readers raise whatever they stumble over
        raise IntakeError(f"{path}: cannot be read as a spreadsheet: {_plain(error)}") from None
    text = frame.astype(object).where(frame.notna(), None)
    yield Chunk(_frame({str(n): [_text(v) for v in text[n]] for n in text.columns}), 2, "row")
