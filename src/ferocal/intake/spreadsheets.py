"""Spreadsheets, read row by row, with limits that no honest one reaches."""

from __future__ import annotations

import itertools
import warnings
import zipfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from xml.parsers import expat

from ferocal.errors import IntakeError
from ferocal.terms.frozen import dataclass
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
# So many empty cells count at the end of a row.
_MOST_EMPTY = 16_384
_MORE_NEEDED = 'spreadsheets need more: python3 -m pip install "ferocal[spreadsheets]"'


class Share(float):
    """A number that a spreadsheet shows in per cent, as the share that it keeps."""


class _LimitError(ValueError):
    """A spreadsheet that is larger than any that is read."""


@dataclass(frozen=True)
class Sheet:
    """One sheet: its rows with something in them, by number (from 1), each by column (from 0).

    ``merged`` areas are first and last row (from 1), first and last column (from 0). ``formulas``
    are places, row and column, of which only the formula is kept and no result.
    """

    name: str
    rows: list[tuple[int, dict[int, Any]]]
    merged: list[tuple[int, int, int, int]]
    formulas: list[tuple[int, int]]


def read_sheets(path: Path) -> list[Sheet]:
    """The sheets of a file that are not hidden, in their order.

    Raises
    ------
    IntakeError
        When it is damaged or beyond the limits.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the libraries warn of styles they do not know
            merged, formulas = _check_archive(path)
            xlsx = path.suffix.lower() == ".xlsx"
            if not xlsx:
                return list(_sheets_of_ods(path))
            sheets = list(_sheets_of_xlsx(path, merged))
            return list(_formulas_of_xlsx(path, sheets)) if formulas else sheets
    except ImportError:
        raise IntakeError(f"{path}: {_MORE_NEEDED}") from None
    except _LimitError as error:
        raise IntakeError(f"{path}: {error}; save the table as CSV") from None
    except Exception as error:  # the readers raise whatever they stumble over
        text = f"{path}: cannot be read as a spreadsheet, or is damaged: save it again, or as CSV"
        raise IntakeError(text) from error


def read_sheet(path: Path) -> tuple[list[dict[str, Any]], list[int]]:
    """The rows of the first sheet by the names in its first row, and their numbers there.

    Rows and columns without anything in them are passed over.

    Raises
    ------
    IntakeError
        When it is damaged, beyond the limits, or has no names, or two that are the same.
    """
    sheets = read_sheets(path)
    filled = sheets[0].rows if sheets else []
    if not filled:
        raise IntakeError(f"{path}: the first sheet is empty")
    (_, header), rows = filled[0], filled[1:]
    used = sorted({place for _, row in filled for place in row})
    names = {place: str(header.get(place, "")).strip() for place in used}
    for name, times in Counter(names.values()).items():
        if times > 1:
            places = ", ".join(letters(place) for place in used if names[place] == name)
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


def letters(place: int) -> str:
    """A column as spreadsheets name it, counted from 0."""
    text = ""
    while place >= 0:
        text, place = chr(65 + place % 26) + text, place // 26 - 1
    return text


def _filled(rows: Iterable[Sequence[Any]]) -> list[tuple[int, dict[int, Any]]]:
    """Rows with something in them, by number (from 1), each by column (from 0)."""
    cells, filled = 0, []
    for number, row in enumerate(rows, 1):
        found = {n: value for n, value in enumerate(row) if value is not None and value != ""}
        cells += len(found)
        if cells > _MOST_CELLS:
            raise _LimitError(f"has more than {grouped(_MOST_CELLS)} cells")
        if found:
            filled.append((number, {n: _as_read(value) for n, value in found.items()}))
    _check_extent(len(filled), len({place for _, row in filled for place in row}))
    return filled


def _as_read(value: Any) -> Any:
    """Whole numbers as such, which both formats keep as others."""
    whole = isinstance(value, float) and not isinstance(value, Share) and value.is_integer()
    return int(value) if whole else value


def _sheets_of_xlsx(path: Path, merged: dict[str, list[str]]) -> Iterator[Sheet]:
    import openpyxl
    from openpyxl.utils import range_boundaries

    book = openpyxl.load_workbook(path, read_only=True, data_only=True, keep_links=False)
    try:
        sheets: list[Any] = [sheet for sheet in book.worksheets if sheet.sheet_state == "visible"]
        for sheet in sheets:
            sheet.reset_dimensions()  # those stated may be wrong
            rows = _filled([_value_of(cell) for cell in row] for row in sheet.iter_rows())
            member = sheet._worksheet_path.lstrip("/")
            areas = []
            for reference in merged.get(member, []):
                left, top, right, bottom = range_boundaries(reference)
                areas.append((top, bottom, left - 1, right - 1))
            yield Sheet(sheet.title, rows, areas, [])
    finally:
        book.close()


def _value_of(cell: Any) -> Any:
    """The value of a cell; a share where it is shown in per cent, and a formula without result."""
    value = cell.value
    if isinstance(value, float | int) and "%" in str(getattr(cell, "number_format", "")):
        return Share(value)
    return value


def _formulas_of_xlsx(path: Path, sheets: Sequence[Sheet]) -> Iterator[Sheet]:
    """The sheets with the places where a formula stands whose result was never kept."""
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True, keep_links=False)
    try:
        for sheet in sheets:
            kept: Any = book[sheet.name]
            kept.reset_dimensions()
            known = {(number, place) for number, row in sheet.rows for place in row}
            found = [
                (number, place)
                for number, row in enumerate(kept.iter_rows(), 1)
                for place, cell in enumerate(row)
                if cell.data_type == "f" and (number, place) not in known
            ]
            yield replace(sheet, formulas=found)
    finally:
        book.close()


def _sheets_of_ods(path: Path) -> Iterator[Sheet]:
    from odf.opendocument import load
    from odf.table import Table

    for table in load(str(path)).spreadsheet.getElementsByType(Table):
        formulas: list[tuple[int, int]] = []
        merged: list[tuple[int, int, int, int]] = []
        rows = _filled(_rows_of_ods(table, merged, formulas))
        yield Sheet(str(table.getAttribute("name")), rows, merged, formulas)


def _rows_of_ods(
    table: Any, merged: list[tuple[int, int, int, int]], formulas: list[tuple[int, int]]
) -> Iterator[list[Any]]:
    from odf.table import CoveredTableCell, TableCell, TableRow

    number = 0
    for row in table.getElementsByType(TableRow):
        values: list[Any] = []
        number += 1
        cells = [
            node for node in row.childNodes
            if node.qname in (TableCell().qname, CoveredTableCell().qname)
        ]  # fmt: skip
        for cell in cells:
            place = len(values)
            value = _value_of_ods(cell)
            down, across = (
                int(cell.getAttribute(f"number{n}spanned") or 1) for n in ("rows", "columns")
            )
            if down > 1 or across > 1:
                merged.append((number, number + down - 1, place, place + across - 1))
            if value is None and cell.getAttribute("formula"):
                formulas.append((number, place))
            repeats = int(cell.getAttribute("numbercolumnsrepeated") or 1)
            # Empty cells at the end of a row may be repeated to the last column there is.
            values.extend([value] * (repeats if value is not None else min(repeats, _MOST_EMPTY)))
        times = int(row.getAttribute("numberrowsrepeated") or 1)
        yield values
        if any(value is not None for value in values):
            yield from [values] * (times - 1)
        else:
            yield from ([] for _ in range(times - 1))
        number += times - 1


def _value_of_ods(cell: Any) -> Any:
    from odf import teletype

    kind, text = cell.getAttribute("valuetype"), teletype.extractText(cell)
    if kind in ("float", "currency", "percentage"):
        value = float(cell.getAttribute("value"))
        return Share(value) if kind == "percentage" else value
    if kind == "date":
        return cell.getAttribute("datevalue")
    return text or None


def _check_archive(path: Path) -> tuple[dict[str, list[str]], bool]:
    """Refuse what would not fit into memory, before a library takes it there.

    Returns the merged areas of the sheets by the names of their members, as XLSX has them, and
    whether there is any formula.
    """
    merged, formulas = {}, False
    with zipfile.ZipFile(path) as archive:
        size = sum(member.file_size for member in archive.infolist())
        if size > _MOST_BYTES:
            raise _LimitError(f"unpacks to {grouped(size)} bytes, more than {grouped(_MOST_BYTES)}")
        for member in archive.infolist():
            if member.filename.endswith((".xml", ".rels")):
                with archive.open(member) as file:
                    scan = _Scan(member.filename)
                    scan.feed(file)
                    merged[member.filename] = scan.merged
                    formulas |= scan.formulas
    return merged, formulas


class _Scan:
    """Looks through an XML file for what is too deep, too much, or spread too far."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._depth = self._elements = 0
        self._rows = self._row_repeats = self._columns = self._width = 0
        self._filled = False
        self.merged: list[str] = []
        self.formulas = False

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
        if tag == "mergeCell":
            self.merged.append(attributes.get("ref", "A1"))
        elif tag == "f":
            self.formulas = True
        elif tag == "table:table":
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
