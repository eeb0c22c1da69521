"""Spreadsheets, read row by row, with limits that no honest one reaches."""

from __future__ import annotations

import itertools
import warnings
import zipfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any
from xml.parsers import expat

from ferocal.errors import IntakeError
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import shortened

# Of the archive when it is unpacked, of one member of it, and of the first sheet.
_MOST_BYTES = 128 * 2**20
_MOST_ELEMENTS = 12_000_000
_MOST_DEPTH = 60
_MOST_CELLS = 5_000_000
_CHUNK = 2**16
# How ODS says that a cell or a row is there so many times, and that it has something in it.
_REPEATED = ("table:number-columns-repeated", "table:number-rows-repeated")
_HAS_VALUE = ("office:value-type", "calcext:value-type")
_MORE_NEEDED = 'spreadsheets need more: python3 -m pip install "ferocal[spreadsheets]"'


class _LimitError(ValueError):
    """A spreadsheet that is larger than any that is read."""


def read_sheet(path: Path) -> tuple[list[dict[str, Any]], list[int]]:
    """The rows of the first sheet by the names in its first row, and their numbers there.

    Rows and columns without anything in them are passed over.

    Raises
    ------
    IntakeError
        When it is damaged, beyond the limits, or has no names, or two that are the same.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the libraries warn of styles they do not know
            _check_archive(path)
            rows = _rows_of_xlsx(path) if path.suffix.lower() == ".xlsx" else _rows_of_ods(path)
            filled = list(_filled(rows))
            _check_extent(len(filled), len({place for _, row in filled for place in row}))
    except ImportError:
        raise IntakeError(f"{path}: {_MORE_NEEDED}") from None
    except _LimitError as error:
        raise IntakeError(f"{path}: {error}; save the table as CSV") from None
    except Exception as error:  # the readers raise whatever they stumble over
        text = f"{path}: cannot be read as a spreadsheet, or is damaged: save it again, or as CSV"
        raise IntakeError(text) from error
    return _named(path, filled)


def _named(
    path: Path, filled: Sequence[tuple[int, dict[int, Any]]]
) -> tuple[list[dict[str, Any]], list[int]]:
    if not filled:
        raise IntakeError(f"{path}: the first sheet is empty")
    (_, header), rows = filled[0], filled[1:]
    used = sorted({place for _, row in filled for place in row})
    names = {place: str(header.get(place, "")).strip() for place in used}
    for name, times in Counter(names.values()).items():
        if times > 1:
            places = ", ".join(_letters(place) for place in used if names[place] == name)
            raise IntakeError(f'{path}: columns {shortened(places)} have the same name, "{name}"')
    named = [{names[place]: row.get(place) for place in used} for _, row in rows]
    return named, [number for number, _ in rows]


def _check_extent(rows: int, columns: int) -> None:
    """Refuse cells that lie so far apart that the table of them would not fit into memory."""
    if rows * columns > _MOST_CELLS:
        raise _LimitError(
            f"has cells in {grouped(rows)} rows and {grouped(columns)} columns, more than "
            f"{grouped(_MOST_CELLS)} cells"
        )


def _letters(place: int) -> str:
    """A column as spreadsheets name it, counted from 0."""
    text = ""
    while place >= 0:
        text, place = chr(65 + place % 26) + text, place // 26 - 1
    return text


def _filled(rows: Iterable[Sequence[Any]]) -> Iterator[tuple[int, dict[int, Any]]]:
    """Rows with something in them, by number (from 1), each by column (from 0)."""
    cells = 0
    for number, row in enumerate(rows, 1):
        found = {n: value for n, value in enumerate(row) if value is not None and value != ""}
        cells += len(found)
        if cells > _MOST_CELLS:
            raise _LimitError(f"has more than {grouped(_MOST_CELLS)} cells")
        if found:
            yield number, {n: _as_read(value) for n, value in found.items()}


def _as_read(value: Any) -> Any:
    """Whole numbers as such, which both formats keep as others."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


def _rows_of_xlsx(path: Path) -> Iterator[Sequence[Any]]:
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True, data_only=True, keep_links=False)
    try:
        sheet: Any = book.worksheets[0]
        sheet.reset_dimensions()  # those stated may be wrong
        yield from sheet.iter_rows(values_only=True)
    finally:
        book.close()


def _rows_of_ods(path: Path) -> Iterator[Sequence[Any]]:
    import pandas as pd

    frame: Any = pd.read_excel(path, header=None, dtype=object, engine="odf")
    empty = frame.isna().to_numpy()
    for row, missing in zip(frame.itertuples(index=False, name=None), empty, strict=True):
        yield [None if gone else value for value, gone in zip(row, missing, strict=True)]


def _check_archive(path: Path) -> None:
    """Refuse what would not fit into memory, before a library takes it there."""
    with zipfile.ZipFile(path) as archive:
        size = sum(member.file_size for member in archive.infolist())
        if size > _MOST_BYTES:
            raise _LimitError(f"unpacks to {grouped(size)} bytes, more than {grouped(_MOST_BYTES)}")
        for member in archive.infolist():
            if member.filename.endswith((".xml", ".rels")):
                with archive.open(member) as file:
                    _Scan(member.filename).feed(file)


class _Scan:
    """Looks through an XML file for what is too deep, too much, or spread too far."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._depth = self._elements = 0
        self._rows = self._row_repeats = self._columns = self._width = 0
        self._filled = False

    def feed(self, file: Any) -> None:
        parser = expat.ParserCreate()
        parser.StartElementHandler = self._start
        parser.EndElementHandler = self._end
        parser.StartDoctypeDeclHandler = self._refuse_doctype
        for chunk in itertools.chain(iter(lambda: file.read(_CHUNK), b""), (b"",)):
            parser.Parse(chunk, not chunk)

    def _start(self, tag: str, attributes: dict[str, str]) -> None:
        self._depth += 1
        self._elements += 1
        if self._depth > _MOST_DEPTH:
            raise _LimitError(f"{self._name} is nested more than {_MOST_DEPTH} deep")
        if self._elements > _MOST_ELEMENTS:
            raise _LimitError(f"{self._name} has more than {grouped(_MOST_ELEMENTS)} elements")
        if tag == "table:table":
            self._rows = self._width = 0
        elif tag == "table:table-row":
            self._columns, self._filled = 0, False
            self._row_repeats = int(attributes.get(_REPEATED[1], 1))
        elif tag in ("table:table-cell", "table:covered-table-cell"):
            self._columns += int(attributes.get(_REPEATED[0], 1))
            if any(name in attributes for name in _HAS_VALUE):
                self._filled, self._width = True, max(self._width, self._columns)

    def _end(self, tag: str) -> None:
        self._depth -= 1
        if tag != "table:table-row":
            return
        self._rows += self._row_repeats
        if self._filled:
            _check_extent(self._rows, self._width)

    def _refuse_doctype(self, *_: Any) -> None:
        raise _LimitError(f"{self._name} declares a document type, which no spreadsheet does")
