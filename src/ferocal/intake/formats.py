"""The formats of files, one entry each, and how tables of readings and of traces are read."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.arrays import IsText, columns_of, columns_of_objects
from ferocal.intake.columns import Columns
from ferocal.intake.delimited import NO_READINGS, lines_of, read_delimited
from ferocal.intake.forms import ALONE, NumberForm
from ferocal.intake.spreadsheets import read_sheet
from ferocal.intake.trace_text import (
    NumberColumns,
    as_numbers,
    not_utf8,
    numeric_columns,
)
from ferocal.terms.frozen import dataclass
from ferocal.terms.json_objects import parse_strictly

# So many objects are in memory at one time.
_PART = 200_000
# How JSON spells surrogates begins so; those of most letters never do.
_SURROGATE = re.compile(r"\\u[dD]")


@dataclass(frozen=True)
class SourceTable:
    """The rows of a file.

    ``word`` is what rows are called, and ``numbers`` gives their numbers as people count
    them, which may take as long as reading the file. ``form`` is that of the numbers in it.
    """

    path: Path
    columns: Columns
    word: str
    numbers: Callable[[Sequence[int]], list[int]]
    form: NumberForm = ALONE


@dataclass(frozen=True)
class Format:
    """A format of files.

    ``read_table`` gives the rows of a table of readings; ``read_columns`` the columns of a
    trace as numbers, only the wanted ones, or all that are numbers if none is named; None for
    texts, which `read_numbers` reads.
    """

    name: str
    suffixes: tuple[str, ...]
    read_table: Callable[[Path, IsText], SourceTable]
    read_columns: Callable[[Path, Sequence[str]], NumberColumns] | None


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


def refuse_nothing(path: Path) -> None:
    """Refuse a file that is not there, or in which nothing is.

    Raises
    ------
    IntakeError
        When it is one of these.
    """
    if not path.is_file():
        raise IntakeError(f"{path}: no such file")
    if path.stat().st_size == 0:
        raise IntakeError(f"{path}: is empty")


def read_table(path: Path, is_text: IsText) -> SourceTable:
    """The rows of a file, whose name says which format it has.

    Parameters
    ----------
    is_text
        Whether a column of a name is of texts, even if they look like numbers.

    Raises
    ------
    IntakeError
        When it is empty, damaged, or of no known kind.
    """
    refuse_nothing(path)
    found = format_of(path)
    if found is None:
        known = ", ".join(suffix for entry in FORMATS for suffix in entry.suffixes)
        raise IntakeError(
            f'{path}: unknown file type "{path.suffix}"; rename or convert it to one of {known}'
        )
    table = found.read_table(path, is_text)
    if not len(table.columns):
        raise IntakeError(f"{path}: {NO_READINGS}")
    return table


def format_of(path: Path) -> Format | None:
    """The format that the name of a file says, None if it says none."""
    suffix = path.suffix.lower()
    return next((entry for entry in FORMATS if suffix in entry.suffixes), None)


def _from(first: int) -> Callable[[Sequence[int]], list[int]]:
    return lambda rows: [first + row for row in rows]


def _read_text(path: Path, is_text: IsText) -> SourceTable:
    return SourceTable(path, read_delimited(path, is_text), "line", partial(lines_of, path))


def parse_json(path: Path) -> Any:
    """What a file of JSON holds.

    Raises
    ------
    IntakeError
        When it is none.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise IntakeError(f"{path}: {not_utf8(error)}") from None
    document = _parse_json(text, str(path))
    if _SURROGATE.search(text):
        rows = document.get("readings") if isinstance(document, dict) else document
        for number, row in enumerate(rows if isinstance(rows, list) else [document], 1):
            _check_characters(row, f"{path}, row {number}")
    return document


def _read_json(path: Path, is_text: IsText) -> SourceTable:
    document = parse_json(path)
    rows = document.get("readings") if isinstance(document, dict) else document
    if not isinstance(rows, list):
        raise IntakeError(
            f"{path}: must be a JSON array of objects (one per reading), or an object whose key "
            '"readings" holds that array'
        )
    for number, row in enumerate(rows, 1):
        if not isinstance(row, dict):
            raise IntakeError(f"{path}, row {number}: not a JSON object")
    return SourceTable(path, columns_of_objects([rows], path, is_text), "row", _from(1))


def _read_lines(path: Path, is_text: IsText) -> SourceTable:
    objects = read_objects(path)
    parts = iter(lambda: [row for _, row in islice(objects, _PART)], [])
    columns = columns_of_objects(parts, path, is_text)
    return SourceTable(path, columns, "line", lambda rows: _lines_of(path, rows))


def read_objects(path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
    """The objects of a file, one a line, each with its line.

    Raises
    ------
    IntakeError
        When a line has none, or the file is not UTF-8.
    """
    try:
        with path.open(encoding="utf-8-sig") as file:
            for number, line in enumerate(file, 1):
                if line.strip():
                    yield number, _object_in(line, f"{path}, line {number}")
    except UnicodeDecodeError as error:
        raise IntakeError(f"{path}: {not_utf8(error)}") from None


def _object_in(line: str, where: str) -> dict[str, Any]:
    row = _parse_json(line, where)
    if not isinstance(row, dict):
        raise IntakeError(f"{where}: not a JSON object")
    if _SURROGATE.search(line):
        _check_characters(row, where)
    return row


def _parse_json(text: str, where: str) -> Any:
    try:
        return parse_strictly(text)
    except RecursionError:
        raise IntakeError(f"{where}: is nested too deep") from None
    except ValueError as error:  # also for whole numbers of thousands of digits
        raise IntakeError(f"{where}: is not JSON: {error}") from None


def _check_characters(row: Any, where: str) -> None:
    """Refuse texts with half of a surrogate pair, which JSON can spell and nothing can store."""
    for name, value in row.items() if isinstance(row, dict) else [("", row)]:
        try:
            f"{name}{value}".encode()
        except UnicodeEncodeError as error:
            half = hex(ord(error.object[error.start]))[2:]
            raise IntakeError(f"{where}, {name!a}: \\u{half} is half of a character") from None


def _lines_of(path: Path, rows: Sequence[int]) -> list[int]:
    lines = [number for number, _ in read_objects(path)]
    return [lines[row] for row in rows]


def _read_parquet(path: Path, is_text: IsText) -> SourceTable:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        # Texts are kept once in the file already.
        kinds = (pa.string(), pa.large_string())
        texts = [field.name for field in pq.read_schema(path) if field.type in kinds]
        table = pq.read_table(path, read_dictionary=texts)
    except (pa.ArrowException, OSError, ValueError) as error:
        reason = getattr(error, "strerror", None)
        text = f"{path}: is not a whole Parquet file" + (f": {reason}" if reason else "")
        raise IntakeError(text) from None
    return SourceTable(path, columns_of(table, path, is_text), "row", _from(1))


def _read_spreadsheet(path: Path, is_text: IsText) -> SourceTable:
    rows, numbers = read_sheet(path)
    columns = columns_of_objects([rows], path, is_text)
    return SourceTable(path, columns, "row", lambda chosen: [numbers[row] for row in chosen])


def _numbers_in_parquet(path: Path, wanted: Sequence[str]) -> NumberColumns:
    import pandas as pd

    return _of_frame(pd.read_parquet(path, columns=list(wanted) or None), wanted)


def _numbers_in_table(path: Path, wanted: Sequence[str]) -> NumberColumns:
    """Columns of any format, read as a table of readings is."""
    import pandas as pd

    table = read_table(path, lambda name: False)
    columns = table.columns
    frame = pd.DataFrame(
        {
            name: column if isinstance(column, np.ndarray) else column.at(np.arange(len(columns)))
            for name, column in columns.by_name.items()
        }
    )
    return _of_frame(frame, wanted, lambda row: f"{table.word} {table.numbers([row])[0]}")


def _of_frame(
    frame: Any, wanted: Sequence[str], named: Callable[[int], str] = lambda row: f"row {row + 1}"
) -> NumberColumns:
    if wanted or len(frame.columns) == 1:
        return as_numbers(frame, wanted, named)
    return numeric_columns(frame, named)


FORMATS: tuple[Format, ...] = (
    Format("delimited text", (".csv", ".tsv", ".txt"), _read_text, None),
    Format("JSON", (".json",), _read_json, _numbers_in_table),
    Format("JSON Lines", (".jsonl", ".ndjson"), _read_lines, _numbers_in_table),
    Format("Parquet", (".parquet",), _read_parquet, _numbers_in_parquet),
    Format("spreadsheet", (".xlsx", ".ods"), _read_spreadsheet, _numbers_in_table),
)
