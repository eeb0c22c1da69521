"""Delimited text (RFC 4180) with any common delimiter, encoding and decimal sign."""

from __future__ import annotations

import codecs
import csv
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.errors import IntakeError
from ferocal.intake.typed import comma_is_decimal
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.terms.spreadsheets import unguarded
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.intake.arrays import IsText
    from ferocal.intake.columns import Columns

NO_READINGS = "has a header but no readings"
DELIMITERS = ",;\t|"
_BLOCK = 2**20
_SAMPLE = 2**16
# So many wrong rows are named.
MOST_NAMED = 8


@dataclass(frozen=True)
class Dialect:
    """How the columns and numbers of a text are written, and how many quotes it has."""

    encoding: str
    delimiter: str
    decimal: str
    quotes: int


def read_delimited(path: Path, is_text: IsText) -> Columns:
    """The columns of a text with a header.

    Parameters
    ----------
    is_text
        Whether a column of a name is of texts, even if they look like numbers.

    Raises
    ------
    IntakeError
        When rows have too many or too few columns, or a quote is not closed.
    """
    import pyarrow as pa
    import pyarrow.csv as text

    from ferocal.intake.arrays import columns_of

    dialect = find_dialect(path)
    if dialect.quotes % 2:
        _check_rows(path, dialect)
    kind = pa.dictionary(pa.int32(), pa.string())
    header = next(records(path, dialect.encoding, dialect.delimiter), (0, []))[1]
    try:
        table = text.read_csv(
            path,
            read_options=text.ReadOptions(encoding=dialect.encoding.removesuffix("-sig")),
            parse_options=text.ParseOptions(
                delimiter=dialect.delimiter, newlines_in_values=dialect.quotes > 0
            ),
            convert_options=text.ConvertOptions(
                column_types={name: kind for name in header if is_text(name.strip())},
                decimal_point=dialect.decimal,
                null_values=[""],
                check_utf8=False,  # done when the quotes were counted
            ),
        )
    except pa.ArrowException:
        _check_rows(path, dialect)
        raise IntakeError(
            f"{path}: cannot be read as a table: save it as CSV in UTF-8, with the names of its "
            "columns in the first line"
        ) from None
    found = _as_meant(columns_of(table, path, is_text))
    pa.default_memory_pool().release_unused()  # it would be kept for more files
    return found


def _as_meant(columns: Columns) -> Columns:
    """The columns without the quotes before what a spreadsheet could have run."""
    from ferocal.intake.columns import Columns, Labels

    by_name = {
        unguarded(name): Labels(column.codes, [unguarded(text) for text in column.names])
        # Most columns have no such text, and some have a million of others.
        if isinstance(column, Labels) and any(text[:1] == "'" for text in column.names)
        else column
        for name, column in columns.by_name.items()
    }
    return Columns(by_name, columns.row)


def find_dialect(path: Path) -> Dialect:
    """The encoding, delimiter and decimal sign of a text, from its header and first rows.

    Raises
    ------
    IntakeError
        When it is not a text.
    """
    encoding, quotes = _look_through(path)
    with path.open(encoding=encoding, newline="") as file:
        lines = [line for line in file.read(_SAMPLE).splitlines() if line.strip()]
    delimiter = find_delimiter("".join(lines[:1]))
    decimal = "."
    if delimiter != ",":
        fields = re.split(rf'[{delimiter}"]', delimiter.join(lines[1:]))
        decimal = "," if comma_is_decimal(fields) else "."
    return Dialect(encoding, delimiter, decimal, quotes)


def find_delimiter(header: str) -> str:
    """What separates the columns of a table, a comma where there is but one."""
    counts = {mark: len(next(csv.reader([header], delimiter=mark), [])) for mark in DELIMITERS}
    return max(counts, key=lambda mark: counts[mark])


def find_encoding(path: Path) -> str:
    """The encoding in which all of a text can be read.

    Raises
    ------
    IntakeError
        When it is no text.
    """
    return _look_through(path)[0]


def _look_through(path: Path) -> tuple[str, int]:
    """The encoding in which all of a file can be read, and the number of quotes in it."""
    with path.open("rb") as file:
        marked = file.read(2) in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
    # Spreadsheets write cp1252 where they do not write Unicode.
    for encoding in ["utf-16"] if marked else ["utf-8-sig", "cp1252"]:
        try:
            return encoding, _count_quotes(path, encoding)
        except UnicodeDecodeError:
            continue
    raise IntakeError(f"{path}: is not a text in UTF-8, UTF-16 or Windows-1252")


def _count_quotes(path: Path, encoding: str) -> int:
    """The quotes in a file; in UTF-16 other signs may be taken for some."""
    decoder, quotes = codecs.getincrementaldecoder(encoding)(), 0
    with path.open("rb", buffering=0) as file:
        for block in iter(lambda: file.read(_BLOCK), b""):
            # Most blocks are plain ASCII without quotes, which is found out faster.
            if not block.isascii() or decoder.getstate()[0] or encoding == "utf-16":
                decoder.decode(block)
            if b'"' in block:
                quotes += block.count(b'"')
    decoder.decode(b"", final=True)
    return quotes


def records(path: Path, encoding: str, delimiter: str) -> Iterator[tuple[int, list[str]]]:
    """The rows of a text, its header first, each with the line where it begins.

    Raises
    ------
    IntakeError
        When a quote is not closed, with the line of the row.
    """
    line = 1
    with path.open(encoding=encoding, newline="") as file:
        rows = csv.reader(file, delimiter=delimiter, strict=True)
        try:
            for row in rows:
                if row:
                    yield line, row
                line = rows.line_num + 1
        except csv.Error:
            raise IntakeError(
                f"{path}, line {line}: no row can be read from here; is a quote not closed?"
            ) from None


def lines_of(path: Path, rows: Sequence[int]) -> list[int]:
    """The lines where some rows begin, which count from 0 without the header."""
    wanted, found, dialect = set(rows), {}, find_dialect(path)
    for number, (line, _) in enumerate(records(path, dialect.encoding, dialect.delimiter), -1):
        if number in wanted:
            found[number] = line
    return [found[row] for row in rows]


def _check_rows(path: Path, dialect: Dialect) -> None:
    """Refuse a text without rows, or in which some are longer or shorter than the header."""
    width, rows, wrong, messages = 0, 0, 0, []
    for line, row in records(path, dialect.encoding, dialect.delimiter):
        rows, width = rows + 1, width or len(row)
        if len(row) != width:
            wrong += 1
            if wrong <= MOST_NAMED:
                messages.append(f"  line {line}: has {counted(len(row), 'column')}, not {width}")
    if rows < 2:
        raise IntakeError(f"{path}: {NO_READINGS}")
    if messages:
        raise refusal(path, messages, wrong)


def refusal(path: Path, messages: Sequence[str], count: int) -> IntakeError:
    """The error for wrong rows of a file, of which some are named and all are counted."""
    rest = [f"  and {grouped(count - len(messages))} more"] if count > len(messages) else []
    return IntakeError("\n".join([f"{path}: nothing was recorded", *messages, *rest]))
