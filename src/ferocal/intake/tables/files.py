"""The tables of a file of any format, as grids."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.delimited import DELIMITERS, find_encoding, records
from ferocal.intake.formats import (
    FORMATS,
    format_of,
    parse_json,
    read_objects,
    read_table,
    refuse_nothing,
)
from ferocal.intake.spreadsheets import read_sheets
from ferocal.intake.tables.grids import Grid, grid_of_objects, make_grid, stripped
from ferocal.intake.trace_text import not_utf8
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.spreadsheets import unguarded

_SAMPLE = 2**16
_MOST_PLACES = 8


@dataclass(frozen=True)
class Where:
    """Where in a file its tables are: a pointer into JSON, or a pattern of lines of a log."""

    path: str = ""
    pattern: str = ""


def read_grids(path: Path, where: Where) -> list[Grid]:
    """The tables of a file.

    Raises
    ------
    IntakeError
        When it is empty, damaged, or of no known kind.
    """
    refuse_nothing(path)
    suffix = path.suffix.lower()
    if where.pattern:
        return [_read_log(path, where.pattern)]
    if where.path and suffix != ".json":
        raise IntakeError(f"{path}: --path points into JSON, and this is none")
    reader = next((read for suffixes, read in _READERS if suffix in suffixes), None)
    if reader is None and format_of(path) is not None:
        reader = _read_objects
    if reader is None:
        written = {name: None for suffixes, _ in _READERS for name in suffixes}
        known = ", ".join(written | {s: None for entry in FORMATS for s in entry.suffixes})
        raise IntakeError(
            f'{path}: unknown file type "{path.suffix}"; rename or convert it to one of {known}, '
            "or say with --pattern where its readings stand"
        )
    return reader(path, where)


def _read_delimited(path: Path, where: Where) -> list[Grid]:
    encoding = find_encoding(path)
    with path.open(encoding=encoding, newline="") as file:
        delimiter = _find_delimiter(file.read(_SAMPLE))
    rows = [
        (line, [unguarded(cell.strip()) for cell in row])
        for line, row in records(path, encoding, delimiter)
    ]
    return [make_grid(path, "", "line", rows, lengths=tuple(len(row) for _, row in rows))]


def _find_delimiter(sample: str) -> str:
    """What separates the columns of most rows: that which gives most rows of one width."""
    lines = sample.splitlines(keepends=True)
    # The last line may have been cut off.
    whole = "".join(lines[:-1] if len(lines) > 2 else lines)

    def merit(mark: str) -> tuple[int, int, bool]:
        widths = Counter(
            len(row) for row in csv.reader(io.StringIO(whole, newline=""), delimiter=mark) if row
        )
        several = {width: count for width, count in widths.items() if width > 1}
        width = max(several, key=lambda w: (several[w], w), default=1)
        return several.get(width, 0), width, mark != ","

    return max(DELIMITERS, key=merit)


def _read_markdown(path: Path, where: Where) -> list[Grid]:
    from markdown_it import MarkdownIt

    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise IntakeError(f"{path}: {not_utf8(error)}") from None
    tables: list[tuple[str, list[tuple[int, list[str]]], list[str]]] = []
    heading, inside, cell = "", "", False
    for token in MarkdownIt("commonmark").enable("table").parse(text):
        if token.type in ("table_open", "table_close", "heading_open", "heading_close"):
            inside = token.type.removesuffix("_open") if token.nesting > 0 else ""
            if token.type == "table_open":
                tables.append((heading, [], []))
        elif token.type == "tr_open" and token.map is not None:
            tables[-1][1].append((token.map[0] + 1, []))
        elif token.type in ("td_open", "th_open", "td_close", "th_close"):
            cell = token.nesting > 0
        elif token.type == "inline":
            words = _plain_text(token)
            if cell:
                tables[-1][1][-1][1].append(words)
            elif inside == "heading":
                heading = words
            elif tables:
                tables[-1][2].extend(words.split("\n"))
    if not tables:
        raise IntakeError(f"{path}: has no table: rows of cells between | signs, below a header")
    names = _names([name for name, _, _ in tables])
    grids = []
    for name, (_, rows, below) in zip(names, tables, strict=True):
        # A line lies between: what stands there is no row of the table.
        last = rows[-1][0] + 1
        told = [(last + n, [line]) for n, line in enumerate(below, 1) if line.strip()]
        grids.append(make_grid(path, name, "line", [*rows, *told]))
    return grids


def _plain_text(token: Any) -> str:
    """The text of a token without its emphasis, links and code marks."""
    parts = [
        "\n" if child.type in ("softbreak", "hardbreak") else child.content
        for child in token.children
    ]
    return "".join(parts).strip()


def _names(headings: Sequence[str]) -> list[str]:
    """What several tables are called: the heading above each where all have another one."""
    if len(headings) == 1:
        return [""]
    if all(headings) and len(set(headings)) == len(headings):
        return list(headings)
    return [f"table {number}" for number in range(1, len(headings) + 1)]


def _read_json(path: Path, where: Where) -> list[Grid]:
    document = _pointed(parse_json(path), where.path, path)
    if isinstance(document, dict) and isinstance(document.get("readings"), list):
        document = document["readings"]
    if (
        isinstance(document, dict)
        and document
        and all(_has_numbers(value) for value in document.values())
    ):
        # Objects by name, such as one for each configuration.
        rows = [
            {"name": name, **row} if isinstance(row, dict) else {"name": name, "value": row}
            for name, row in document.items()
        ]
        return [grid_of_objects(path, "", "entry", rows, range(1, len(rows) + 1))]
    if not isinstance(document, list):
        raise IntakeError(
            f"{path}: must be a JSON array of objects (one per reading or per system), or an "
            f"object with such an array under a key; point to it with --path{_arrays(document)}"
        )
    for number, row in enumerate(document, 1):
        if not isinstance(row, dict):
            raise IntakeError(f"{path}, row {number}: not a JSON object")
    return [grid_of_objects(path, "", "row", document, range(1, len(document) + 1))]


def _has_numbers(value: Any, depth: int = 0) -> bool:
    """Whether a value is or holds numbers, and no further objects in lists."""
    if isinstance(value, dict) and depth < 4:
        return any(_has_numbers(item, depth + 1) for item in value.values())
    items = value if isinstance(value, list) else [value]
    numbers = [isinstance(item, (int, float)) and not isinstance(item, bool) for item in items]
    return bool(numbers) and all(numbers) and (depth > 0 or isinstance(value, list))


def _pointed(document: Any, pointer: str, path: Path) -> Any:
    """What a pointer (RFC 6901) leads to."""
    from jsonpointer import JsonPointer, JsonPointerException

    if not pointer:
        return document
    try:
        return JsonPointer(pointer).resolve(document)
    except JsonPointerException:
        known = _places(document)
        hint = closest(pointer, known) if known else "it has no arrays"
        raise IntakeError(f'{path}: --path "{pointer}" leads nowhere; {hint}') from None


def _arrays(document: Any) -> str:
    places = _places(document)[:_MOST_PLACES]
    return f", such as {' or '.join(places)}" if places else ""


def _places(document: Any, above: str = "", depth: int = 0) -> list[str]:
    """Pointers to the arrays of objects in a document, the shallow ones first."""
    if not isinstance(document, dict) or depth > 6:
        return []
    found, deeper = [], []
    for key, value in document.items():
        pointer = f"{above}/{str(key).replace('~', '~0').replace('/', '~1')}"
        if isinstance(value, list) and value and isinstance(value[0], dict):
            found.append(pointer)
        deeper += _places(value, pointer, depth + 1)
    return found + deeper


def _read_lines(path: Path, where: Where) -> list[Grid]:
    found = list(read_objects(path))
    if not found:
        raise IntakeError(f"{path}: has no readings")
    numbers, rows = zip(*found, strict=True)
    return [grid_of_objects(path, "", "line", rows, numbers)]


def _read_spreadsheet(path: Path, where: Where) -> list[Grid]:
    sheets = read_sheets(path)
    grids = []
    for sheet in sheets:
        rows = [
            (number, [stripped(row.get(n)) for n in range(max(row, default=-1) + 1)])
            for number, row in sheet.rows
        ]
        place = {number: n for n, (number, _) in enumerate(rows)}
        formulas = {(place[number], column) for number, column in sheet.formulas if number in place}
        merged = []
        for top, bottom, left, right in sheet.merged:
            within = [n for number, n in place.items() if top <= number <= bottom]
            if within:
                merged.append((within[0], within[-1], left, right))
        name = sheet.name if len(sheets) > 1 else ""
        grids.append(
            make_grid(path, name, "row", rows, merged=tuple(merged), formulas=frozenset(formulas))
        )
    return grids


def _read_objects(path: Path, where: Where) -> list[Grid]:
    """The rows of a format that only programs write."""
    columns = read_table(path, lambda name: False).columns
    by_name = {
        name: column.tolist() if isinstance(column, np.ndarray) else column.at(columns.row)
        for name, column in columns.by_name.items()
    }
    rows = [dict(zip(by_name, row, strict=True)) for row in zip(*by_name.values(), strict=True)]
    rows = [{name: cell for name, cell in row.items() if cell == cell} for row in rows]
    return [grid_of_objects(path, "", "row", rows, range(1, len(rows) + 1))]


def _read_log(path: Path, pattern: str) -> Grid:
    """The lines in which a pattern is found, with what its groups hold."""
    try:
        compiled = re.compile(pattern)
    except re.error as error:
        raise IntakeError(f"--pattern {pattern}: not a regular expression: {error}") from None
    if not compiled.groups:
        raise IntakeError(f"--pattern {pattern}: put parentheses around what is to be read")
    names = {place: name for name, place in compiled.groupindex.items()}
    plain = [n for n in range(1, compiled.groups + 1) if n not in names]
    if len(plain) > 1:
        raise IntakeError(
            f"--pattern {pattern}: of several groups each needs a name, like (?P<value>…)"
        )
    header = [names.get(n, _name_before(pattern)) for n in range(1, compiled.groups + 1)]
    encoding = find_encoding(path)
    rows: list[tuple[int, Sequence[str | None]]] = []
    with path.open(encoding=encoding) as file:
        for number, line in enumerate(file, 1):
            rows += [(number, match.groups()) for match in compiled.finditer(line)]
    if not rows:
        raise IntakeError(f'{path}: no line has "{pattern}"')
    return make_grid(path, "", "line", [(0, header), *rows])


def _name_before(pattern: str) -> str:
    """The word before the group of a pattern, such as FPS in 'FPS: ([0-9.]+)'."""
    words = re.findall(r"[A-Za-z][\w %-]*", re.sub(r"\\.", " ", pattern.partition("(")[0]))
    return words[-1].strip() if words else "value"


# Formats that people write by hand or lay out for reading; all others are rows of objects.
_READERS: tuple[tuple[tuple[str, ...], Callable[[Path, Where], list[Grid]]], ...] = (
    ((".csv", ".tsv", ".txt"), _read_delimited),
    ((".json",), _read_json),
    ((".jsonl", ".ndjson"), _read_lines),
    ((".xlsx", ".ods"), _read_spreadsheet),
    ((".md", ".markdown"), _read_markdown),
)
