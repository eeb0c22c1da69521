"""Numbers of traces in texts: one per line, or the columns of a table, as programs write them."""

from __future__ import annotations

import csv
import io
import re
import warnings
from collections.abc import Callable, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ferocal.intake.delimited import find_delimiter, find_dialect
from ferocal.intake.typed import comma_is_decimal
from ferocal.terms.frozen import dataclass

NumberColumns = Mapping[str, np.ndarray]
Decimal = Literal["comma", "point"]
# So many lines show how a text is written.
_SAMPLE = 500
_NUMBER = re.compile(r"[-+]?(\d+([.,]\d*)?|[.,]\d+)([eE][-+]?\d+)?|nan|[-+]?inf(inity)?", re.I)
# A table may have a column that is called "#".
_COMMENT = re.compile(r"#(?!\s*[;\t|,])")
_TIME = re.compile(r"\d{4}-\d\d-\d\d|\d+:\d\d")
_WHOLE_PAIR = re.compile(r"[-+]?\d+,\d+")
# Fewer rows do not show that their first column counts or is a time.
_FEWEST_ROWS = 3


@dataclass(frozen=True)
class TextForm:
    """How the numbers of a trace stand in a text.

    ``delimiter`` is None for a number per line. Where the comma is ``doubtful``, all numbers with
    one could as well be whole, with a comma between thousands.
    """

    delimiter: str | None
    header: bool
    decimal: Decimal
    doubtful: bool = False


def find_form(lines: Sequence[str], *, named: bool, decimal: Decimal | None = None) -> TextForm:
    """How a text is written, from its first lines without empty ones and comments.

    Where columns are ``named`` it is a table. ``decimal`` is what the comma is said to be.
    """
    first = _fields(lines[0], _delimiter(lines, named=named))
    header = named or (len(lines) > 1 and not all(map(_is_value, first)))
    body = lines[1:] if header else lines
    delimiter = _delimiter(lines, named=named)
    if delimiter == "," and ((header and "," not in lines[0]) or _are_decimals(body, header)):
        delimiter = None
    fields = [field for line in body for field in _fields(line, delimiter)]
    commas = any("," in field for field in fields)
    if decimal is not None or not commas:
        return TextForm(delimiter, header, decimal or "point")
    sure = delimiter == ";" or comma_is_decimal(fields)
    pointed = any("." in field for field in fields)
    return TextForm(delimiter, header, "point" if pointed else "comma", not sure and not pointed)


def _delimiter(lines: Sequence[str], *, named: bool) -> str | None:
    """What stands between columns; None for a single one."""
    if any(mark in lines[0] for mark in ";\t|,"):
        return find_delimiter(lines[0])
    if len(lines) > 1 and any(mark in lines[-1] for mark in ";\t|,"):
        return find_delimiter(lines[-1])
    # Blanks separate numbers; the names of columns may have some.
    widths = {len(line.split()) for line in lines[-_FEWEST_ROWS:]}
    if named or len(widths) != 1 or widths == {1}:
        return None
    return r"\s+" if all(map(_is_number, lines[-1].split())) else None


def _are_decimals(body: Sequence[str], header: bool) -> bool:
    """Whether pairs of whole numbers are numbers with a decimal comma, not two columns."""
    if header or not all(map(_WHOLE_PAIR.fullmatch, body)):
        return False
    first = np.array([float(line.partition(",")[0]) for line in body])
    with np.errstate(invalid="ignore"):  # of infinite ones, refused later
        rises = np.diff(first)
    counts = len(first) >= _FEWEST_ROWS and bool((rises == 1).all())
    return not counts and not (len(first) > 2 * _FEWEST_ROWS and bool((rises > 0).all()))


def _fields(line: str, delimiter: str | None) -> list[str]:
    if delimiter is None:
        return [line.strip()]
    if delimiter == r"\s+":
        return line.split()
    return [part.strip() for part in next(csv.reader([line], delimiter=delimiter), [])]


def _is_number(text: str) -> bool:
    return not text or _NUMBER.fullmatch(text) is not None


def _is_value(text: str) -> bool:
    return _is_number(text) or _TIME.match(text) is not None


def read_numbers(
    source: Path | io.StringIO, wanted: Sequence[str], decimal: Decimal | None = None
) -> tuple[NumberColumns, TextForm]:
    """The wanted columns of a text, all that are numbers if none is named, and how it is written.

    A number per line is a column without a name; those of a table without a header are called 1,
    2 and so on.

    Raises
    ------
    ValueError
        When a column is missing, rows differ in length, or something is not a number.
    """
    encoding = _encoding(source)
    lines = _first_lines(source, encoding)
    form = find_form(lines, named=bool(wanted), decimal=decimal)
    options: dict[str, Any] = {"header": 0 if form.header else None}
    options["encoding"] = encoding
    options["comment"] = None if lines[0].startswith("#") else "#"
    if form.delimiter is None and not form.header:
        options["names"] = [""]
    # In a single column no sign separates; one that stands nowhere else is as good as none.
    options["sep"] = form.delimiter or ("\0" if form.decimal == "comma" else ",")
    frame = _frame(source, decimal="," if form.decimal == "comma" else ".", **options)
    if not form.header and form.delimiter is not None:
        frame.columns = [str(n + 1) for n in range(len(frame.columns))]
    frame.columns = [str(name).strip() for name in frame.columns]
    if wanted or len(frame.columns) == 1:
        return as_numbers(frame, wanted), form
    columns = numeric_columns(frame)
    if not columns:
        raise ValueError("it has no numbers")
    return columns, form


def _encoding(source: Path | io.StringIO) -> str:
    """UTF-8, or what else the first lines of a file can be read as."""
    if isinstance(source, io.StringIO):
        return "utf-8"
    try:
        with source.open(encoding="utf-8-sig") as opened:
            list(islice(opened, _SAMPLE))
    except UnicodeDecodeError:
        return find_dialect(source).encoding
    return "utf-8-sig"


def _first_lines(source: Path | io.StringIO, encoding: str) -> list[str]:
    def taken(lines: Any) -> list[str]:
        kept = (line.strip("\r\n") for line in lines)
        return list(islice((x for x in kept if x.strip() and not _COMMENT.match(x)), _SAMPLE))

    if isinstance(source, io.StringIO):
        found = taken(source.getvalue().splitlines())
    else:
        with source.open(encoding=encoding) as opened:
            found = taken(opened)
    if not found:
        raise ValueError("it is empty")
    return found


def _frame(source: Path | io.StringIO, **options: Any) -> Any:
    """The rows of a delimited text; errors in words of our own."""
    import pandas as pd

    try:
        with warnings.catch_warnings():
            # Columns beyond those of the header would be left out.
            warnings.simplefilter("error", pd.errors.ParserWarning)
            frame = pd.read_csv(source, skip_blank_lines=True, index_col=False, **options)
    except pd.errors.EmptyDataError:
        raise ValueError("it is empty") from None
    except UnicodeDecodeError as error:
        raise ValueError(f"it {not_utf8(error)}") from None
    except (pd.errors.ParserError, pd.errors.ParserWarning) as error:
        found = re.search(r"Expected (\d+) fields in line (\d+), saw (\d+)", str(error))
        if found is None:
            raise ValueError(
                "its rows have more columns than the first line has names; is a quote not closed, "
                "or does a title stand above them?"
            ) from None
        expected, line, seen = found.groups()
        text = f"line {line} has {seen} columns where {expected} was expected"
        advice = "name the column of the values with --column" if expected == "1" else (
            "is a quote not closed?"
        )  # fmt: skip
        raise ValueError(f"{text}: {advice}") from None
    if frame.empty:
        raise ValueError("it has a header but no numbers")
    return frame


def not_utf8(error: UnicodeDecodeError) -> str:
    """What is wrong with the encoding of a file."""
    return f"is not UTF-8 (byte {error.start + 1}); save it as UTF-8"


def as_numbers(
    frame: Any, wanted: Sequence[str], named: Callable[[int], str] = lambda row: f"row {row + 1}"
) -> NumberColumns:
    """Columns of a frame as numbers, a single one if none is named; ``named`` says what is a row.

    Raises
    ------
    ValueError
        When a column is missing, or something in it is not a number.
    """
    import pandas as pd

    found = {}
    for name in wanted or list(frame.columns):
        if name not in frame.columns:
            known = ", ".join(map(str, frame.columns[:12]))
            raise ValueError(f'no column "{name}"; the columns are {known}')
        numbers = _numbers(frame[name])
        wrong = np.isnan(numbers)
        if wrong.any():
            row = int(np.argmax(wrong))
            place = f"{named(row)}, {name}" if name else f"line {row + 1}"
            text = frame[name].iloc[row]
            what = "has no number" if pd.isna(text) else f"{text!r} is not a number"
            raise ValueError(f"{place}: {what}")
        found[name] = numbers
    return found


def numeric_columns(
    frame: Any, named: Callable[[int], str] = lambda row: f"row {row + 1}"
) -> NumberColumns:
    """All columns of a frame that are numbers or times of day; times in seconds.

    Raises
    ------
    ValueError
        When a column has numbers and something else.
    """
    found = {}
    for name in frame.columns:
        numbers = _numbers(frame[name])
        if np.isnan(numbers).all():
            numbers = _times(frame[name])
        if not np.isnan(numbers).any():
            found[str(name)] = numbers
        elif not np.isnan(numbers).all():
            as_numbers(frame, [name], named)
    return found


def _numbers(column: Any) -> np.ndarray:
    """A column as numbers, NaN where there is none; in quotes commas may be decimal signs."""
    import pandas as pd

    if not pd.api.types.is_numeric_dtype(column):
        texts = column.astype(str)
        if not texts.str.contains(".", regex=False).any():
            column = texts.str.replace(",", ".", regex=False)
    numbers: np.ndarray = pd.to_numeric(column, errors="coerce").to_numpy(dtype=float)
    return numbers


def _times(column: Any) -> np.ndarray:
    """Seconds of times such as 00:01:02.5, or of ISO 8601; NaN where there is none."""
    import pandas as pd

    texts = column.astype(str).str.replace(",", ".", regex=False)
    if texts.str.fullmatch(r"\d+:\d\d:\d\d(\.\d+)?").all():
        seconds: np.ndarray = pd.to_timedelta(texts, errors="coerce").dt.total_seconds().to_numpy()
        return seconds
    moments = pd.to_datetime(texts, errors="coerce", format="ISO8601", utc=True)
    since: np.ndarray = (moments - moments.min()).dt.total_seconds().to_numpy()
    return since
