"""Files that nobody would write on purpose, and what is said of them."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from openpyxl.utils import get_column_letter

from conftest import Ferocal
from ferocal.errors import IntakeError
from ferocal.intake.arrays import columns_of
from ferocal.ledger.opening import LEDGER_FILE

Study = Callable[..., Ferocal]
ROW = {"configuration": "on", "workload": "flight", "metric": "score", "value": 101}


def with_utf8(bad: bytes) -> pa.Table:
    """A table whose second text in the column of workloads is not UTF-8."""
    offsets = pa.array([0, 6, 6 + len(bad)], pa.int32()).buffers()[1]
    texts = pa.Array.from_buffers(pa.string(), 2, [None, offsets, pa.py_buffer(b"flight" + bad)])
    return pa.table({"configuration": ["on", "on"], "workload": texts, "value": [1.0, 2.0]})


def parquet(table: pa.Table) -> bytes:
    buffer = io.BytesIO()
    pq.write_table(table, buffer)
    return buffer.getvalue()


def exported(**changes: Any) -> bytes:
    """A trace as `ferocal export` writes it, but for some of what it says of itself."""
    context = {"configuration": "on", "workload": "show", "metric": "frames", "kind": "frames",
               "unit": "s", "number": 1, **changes}  # fmt: skip
    table = pa.table({"value": [0.016] * 50})
    return parquet(table.replace_schema_metadata({b"ferocal": json.dumps(context)}))


def sheet(*rows: list[Any]) -> bytes:
    book, buffer = openpyxl.Workbook(), io.BytesIO()
    for row in rows:
        book.active.append(row)
    book.save(buffer)
    return buffer.getvalue()


def with_member(content: bytes, name: str, member: bytes) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(buffer, "w", 8) as new:
        for other in old.namelist():
            new.writestr(other, member if other == name else old.read(other))
    return buffer.getvalue()


HEADER, GOOD = list(ROW), sheet(list(ROW), list(ROW.values()))
SHEET = "xl/worksheets/sheet1.xml"
BOOK = "xl/workbook.xml"
SHEETLESS = (
    b'<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheets/>'
    b"</workbook>"
)
BEGIN = b'<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>'
LAST_CELL = BEGIN + b'<row r="1048576"><c r="XFD1048576"><v>7</v></c></row></sheetData></worksheet>'
SPARSE = BEGIN + b"".join(
    f'<row r="{n}"><c r="{get_column_letter(n)}{n}"><v>{n}</v></c></row>'.encode()
    for n in range(1, 3001)
) + b"</sheetData></worksheet>"  # fmt: skip
BOMB = BEGIN + b"<row/>" * 25_000_000
DEEP = BEGIN + b"<row>" * 5000


def far_apart() -> bytes:
    """An ODS with a cell in the first and one in the last row and column."""
    buffer = io.BytesIO()
    with pd.ExcelWriter(buffer, engine="odf") as writer:
        pd.DataFrame({"value": [7]}).to_excel(writer, index=False)
    content = zipfile.ZipFile(io.BytesIO(buffer.getvalue())).read("content.xml")
    end = content.rindex(b"<table:table-row")
    gap = (
        b'<table:table-row table:number-rows-repeated="1048000"><table:table-cell/>'
        b'</table:table-row><table:table-row><table:table-cell '
        b'table:number-columns-repeated="16000"/>'
    )  # fmt: skip
    row = content[end:].replace(b"<table:table-row>", gap)
    return with_member(buffer.getvalue(), "content.xml", content[:end] + row)


FILES: dict[str, tuple[bytes, str]] = {
    "half.json": (
        b'[{"configuration": "on", "workload": "fli\\uD800", "value": 1}]',
        "row 1, 'workload': \\ud800 is half of a character",
    ),
    "half.jsonl": (b'\n{"value": 1, "\\udfff": 2}\n', "line 2, '\\udfff': \\udfff is half"),
    "blank.json": (b" \n", "is not JSON"),
    "blank.jsonl": (b"\n \n", "no readings"),
    "comma.json": (b'[{"value": 1,,}]', "is not JSON: see column 14"),
    "latin.json": (b'[{"value": "\xff"}]', "is not UTF-8 (byte 13)"),
    "latin.jsonl": (b'{"value": 1}\n{"value": "\xff"}\n', "is not UTF-8 (byte 25)"),
    "quote.csv": (b'configuration,value\non,"2\n', "line 2: no row can be read from here"),
    "junk.xlsx": (b"junk", "cannot be read as a spreadsheet"),
    "junk.parquet": (b"junk", "is not a whole Parquet file"),
    "deep.json": (b"[" * 200_000, "nested too deep"),
    "digits.jsonl": (b'{"value": 1}\n{"value": ' + b"9" * 6000 + b"}\n", "line 2: is not JSON"),
    "names.json": (b'[{"digits": 1, "digits": 2}]', '"digits" occurs twice in one object'),
    "list.json": (b'[{"value": 1}, 3]', "row 2: not a JSON object"),
    "utf8.parquet": (parquet(with_utf8(b"\xff\xfe")), 'row 2, "workload": cannot be read'),
    "cut.parquet": (parquet(with_utf8(b"x"))[:200], "is not a whole Parquet file"),
    "twice.xlsx": (sheet(["value", "value"], [1, 2]), 'columns A and B are both called "value"'),
    "row.xlsx": (sheet(HEADER, [], ["on", "flight", "score", "#REF!"]), 'row 3, value: "#REF!"'),
    "empty.xlsx": (sheet(), "is empty"),
    "sheetless.xlsx": (with_member(GOOD, BOOK, SHEETLESS), "there is no table in it"),
    "last.xlsx": (with_member(GOOD, SHEET, LAST_CELL), "a header but no readings"),
    "sparse.xlsx": (with_member(GOOD, SHEET, SPARSE), "3000 rows and 3000 columns, more than"),
    "bomb.xlsx": (with_member(GOOD, SHEET, BOMB), "more than 134 217 728"),
    "deep.xlsx": (with_member(GOOD, SHEET, DEEP), "nested more than 60 deep"),
    "entities.xlsx": (
        with_member(GOOD, SHEET, b'<!DOCTYPE x [<!ENTITY a "b">]>' + BEGIN),
        "declares a document type",
    ),
    "far.ods": (far_apart(), "more than 5 000 000 cells"),
    "round.parquet": (exported(round=2**80), "round: "),
    "kind.parquet": (exported(kind=7), "kind: "),
    "more.parquet": (exported(path="../../x"), "path: "),
}  # fmt: skip


# What only a library would say to a user.
LIBRARY = re.compile(
    r"Arrow|[Ee]xpecting|\(char |codec|[Tt]okeniz|Input should|valid \w+ or instance|magic|"
    r"pydantic|openpyxl|Errno|footer|Error:"
)


# More digits than a whole number may have in Python.
DIGITS = "9" * 5000
ENDLESS = {
    "samples": f"configuration,value\non,340 of {DIGITS}\noff,3 of 4\n",
    "metric": f"configuration,m1,m{DIGITS}\non,1,2\n",
    "run": f"configuration,run {DIGITS},run 2\non,1,2\n",
    "date": f"configuration,date,value\non,{DIGITS}-01-02,2\n",
    "round": f"configuration,round,value\non,{DIGITS},2\n",
    "rank": f"configuration,rank,value\non,{DIGITS},2\noff,1,3\n",
    "footnote": f"configuration,value\non[{DIGITS}],2\noff,3\n",
    "duration": f"configuration,value\non,1:{DIGITS}:03\noff,0:01:02\n",
    "price": f"configuration,price,value\non,$ {DIGITS},3\noff,2,3\n",
    "cores": f"configuration,cores,value\non,{DIGITS},3\noff,2,3\n",
    "value": f"configuration,value\non,{DIGITS}\noff,3\n",
}


@pytest.mark.parametrize("name", ENDLESS)
def test_numbers_without_end_are_read_or_refused(ferocal: Ferocal, name: str) -> None:
    (ferocal.directory / "scores.csv").write_text(ENDLESS[name])
    status, _, error = ferocal.attempt("new", "made", "--from", "scores.csv")
    assert status in (0, 2) and not LIBRARY.search(error), error
    assert status == 0 or error.startswith("ferocal: scores.csv"), error


@pytest.mark.parametrize("name", FILES)
def test_what_is_wrong_and_where(small_study: Study, name: str) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("note", "a ledger is there")
    before = (ferocal.directory / LEDGER_FILE).read_bytes()
    content, told = FILES[name]
    (ferocal.directory / name).write_bytes(content)
    status, out, error = ferocal.attempt("load", name)
    assert status in (1, 2) and out == ""
    assert error.startswith(f"ferocal: {name}"), error
    assert not LIBRARY.search(error), error
    assert told.replace(" ", "") in error.replace(" ", "").replace("\u202f", ""), error
    assert (ferocal.directory / LEDGER_FILE).read_bytes() == before


def test_a_trace_with_damaged_pages_is_refused_by_name(small_study: Study) -> None:
    ferocal = small_study(rounds=1)
    content = bytearray(exported())
    content[30:60] = bytes(30)
    (ferocal.directory / "page.parquet").write_bytes(content)
    status, _, error = ferocal.attempt("load", "page.parquet")
    assert status != 0 and error.startswith("ferocal: page.parquet: is not a trace"), error


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ("UPDATE about SET value = x'FFFE' WHERE key = 'schema'", "has schema version"),
        (f"UPDATE about SET value = '{'9' * 5000}' WHERE key = 'schema'", "has schema version 999"),
        ("UPDATE about SET value = 'seven' WHERE key = 'schema'", "has schema version seven"),
    ],
)
def test_a_schema_version_that_is_no_number_is_told(
    small_study: Study, change: str, told: str
) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("note", "a ledger is there")
    ferocal.edit(change, sealed=False)
    status, _, error = ferocal.attempt("compare")
    assert status == 1 and told in error and len(error) < 400, error


FACTORS = '[study]\nquestion = "?"\nmargin = "5 %"\n{design}' + "".join(
    f"[factor.f{f}.level.l{n}]\n" for f in range(8) for n in range(10)
)
WORKLOAD = """[workload.w]
command = "true"
[workload.w.metric.m]
unit = "s"
better = "lower"
source = "wall-time"
"""


def test_too_many_configurations_are_counted_before_they_are_made(ferocal: Ferocal) -> None:
    ferocal.write(FACTORS.format(design="") + WORKLOAD)
    error = ferocal.refusal("inspect")
    assert "100000000, more than 1000" in error.replace("\u202f", "").replace(" 000", "000")
    assert 'design = "one-factor" (73)' in error and 'design = "listed"' in error
    ferocal.write(FACTORS.format(design='[configuration]\ndesign = "one-factor"\n') + WORKLOAD)
    assert "against 72 others" in ferocal.quick("inspect")


def test_a_study_file_that_cannot_be_read_is_told(ferocal: Ferocal, tmp_path: Path) -> None:
    ferocal.write(f"x = {'[' * 5000}")
    assert "nested too deep" in ferocal.refusal("plan")
    ferocal.write(f"x = {'9' * 5000}")
    assert "not valid TOML" in ferocal.refusal("plan")


TRACES = """
[study]
question = "?"
margin = "5 %"
rounds = 1
runs = 1
[factor.a.level.x]
[factor.a.level.y]
[workload.show]
shell = true
command = "printf 't,ms\\n1,16\\n2,16\\n3,-4\\n' > one.csv; cp one.csv two.csv; echo 16 > a.txt"
[workload.show.metric.frames]
kind = "frames"
unit = "ms"
source = { file = "t*.csv", column = "ms" }
[workload.flight.metric.shown]
kind = "frames"
unit = "s"
source = { file = "*", column = "at", stamps = true, skip = 1 }
[workload.heat.metric.clock]
kind = "soak"
unit = "GHz"
better = "higher"
source = { file = "*", column = "clock", time = "t" }
"""
# The workload, and the file as rows below its header.
CAPTURES = {
    "text.csv": ("show", "ms\n16\nx\n", 'text.csv: row 2, ms: \'x\' is not a number'),
    "stamps.csv": ("flight", "at\n9\n1\n3\n2\n", "stamps.csv, row 4, at: time stamp 3 is earlier"),
    "order.csv": ("heat", "t,clock\n0,3\n1,3\n1,3\n", "order.csv, row 3, t: time 3 is not later"),
    "long.json": ("show", '[{"ms": 16}, {"ms": 1e9}]', "long.json, row 2, ms: frame 2 duration"),
}  # fmt: skip


@pytest.mark.parametrize("name", CAPTURES)
def test_captures_are_named_by_file_row_and_column(ferocal: Ferocal, name: str) -> None:
    ferocal.write(TRACES)
    workload, content, told = CAPTURES[name]
    (ferocal.directory / name).write_text(content)
    words = ("load-trace", "--configuration", "x", "--workload", workload, name)
    assert told in ferocal.attempt(*words)[2]


def test_rows_of_spreadsheets_count_as_they_are_seen(ferocal: Ferocal) -> None:
    ferocal.write(TRACES)
    (ferocal.directory / "gap.xlsx").write_bytes(sheet(["ms"], [16], [], ["late"]))
    words = ("load-trace", "--configuration", "x", "--workload", "show", "gap.xlsx")
    assert "gap.xlsx: row 4, ms: 'late' is not a number" in ferocal.attempt(*words)[2]


def test_a_column_that_names_what_is_not_there_is_refused() -> None:
    codes, names = pa.array([0, 67, 1], pa.int32()), pa.array(["on", "off"])
    damaged = pa.DictionaryArray.from_arrays(codes, names, safe=False)
    table = pa.table({"configuration": damaged})
    with pytest.raises(IntakeError, match='row 2, "configuration": cannot be read'):
        columns_of(table, Path("damaged.parquet"), lambda _: False)
