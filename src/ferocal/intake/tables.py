"""Tables from files: delimited text, JSON, JSON Lines, Parquet, spreadsheets."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any

from ferocal.errors import IntakeError
from ferocal.intake.arrays import IsText, columns_of, columns_of_objects
from ferocal.intake.columns import Columns
from ferocal.intake.delimited import NO_READINGS, lines_of, read_delimited

# So many objects are in memory at one time.
_PART = 200_000
_SPREADSHEETS = {".xlsx": "openpyxl", ".ods": "odf"}


@dataclass(frozen=True)
class Table:
    """The rows of a file.

    ``word`` is what rows are called, and ``numbers`` gives their numbers as people count
    them, which may take as long as reading the file.
    """

    path: Path
    columns: Columns
    word: str
    numbers: Callable[[Sequence[int]], list[int]]


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


def read_table(path: Path, is_text: IsText) -> Table:
    """The rows of a file; what kind of file it is, its name tells.

    Parameters
    ----------
    is_text
        Whether a column of a name is of texts, even if they look like numbers.

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
    table = readers[kind](path, is_text)
    if not len(table.columns):
        raise IntakeError(f"{path}: {NO_READINGS}")
    return table


def _from(first: int) -> Callable[[Sequence[int]], list[int]]:
    return lambda rows: [first + row for row in rows]


def _read_text(path: Path, is_text: IsText) -> Table:
    return Table(path, read_delimited(path, is_text), "line", partial(lines_of, path))


def _read_json(path: Path, is_text: IsText) -> Table:
    try:
        document = json.loads(path.read_text(encoding="utf-8-sig"))
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise IntakeError(f"{path}: is not JSON: {error}") from None
    rows = document.get("readings") if isinstance(document, dict) else document
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise IntakeError(f'{path}: needs a list of objects, or one under "readings"')
    return Table(path, columns_of_objects([rows], path, is_text), "row", _from(1))


def _read_lines(path: Path, is_text: IsText) -> Table:
    objects = _objects(path)
    parts = iter(lambda: [row for _, row in islice(objects, _PART)], [])
    try:
        columns = columns_of_objects(parts, path, is_text)
    except UnicodeDecodeError as error:
        raise IntakeError(f"{path}: is not JSON in UTF-8: {error}") from None
    return Table(path, columns, "line", lambda rows: _lines_of(path, rows))


def _objects(path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
    """The objects of a file, one a line, each with its line."""
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
            yield number, row


def _lines_of(path: Path, rows: Sequence[int]) -> list[int]:
    lines = [number for number, _ in _objects(path)]
    return [lines[row] for row in rows]


def _read_parquet(path: Path, is_text: IsText) -> Table:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        # Texts are kept once in the file already.
        kinds = (pa.string(), pa.large_string())
        texts = [field.name for field in pq.read_schema(path) if field.type in kinds]
        table = pq.read_table(path, read_dictionary=texts)
    except (pa.ArrowException, OSError) as error:
        told = str(error).splitlines()[0]
        raise IntakeError(f"{path}: is not a whole Parquet file: {told}") from None
    return Table(path, columns_of(table, path, is_text), "row", _from(1))


def _read_spreadsheet(path: Path, is_text: IsText) -> Table:
    import pandas as pd

    engine: Any = _SPREADSHEETS[path.suffix.lower()]
    try:
        frame = pd.read_excel(path, dtype=object, engine=engine)
    except ImportError:
        raise IntakeError(
            f'{path}: spreadsheets need more: python3 -m pip install "ferocal[spreadsheets]"'
        ) from None
    except Exception as error:  # the readers raise whatever they stumble over
        told = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise IntakeError(f"{path}: cannot be read as a spreadsheet: {told}") from None
    frame.columns = frame.columns.map(str)
    rows = frame.astype(object).where(frame.notna(), None).to_dict("records")
    return Table(path, columns_of_objects([rows], path, is_text), "row", _from(2))
