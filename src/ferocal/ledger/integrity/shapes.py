"""What a row may hold: kinds of values, numbers in bounds, names, JSON of the right shape.

The database keeps anything in any column. What Ferocal writes is right; a ledger that was made or
changed by something else is refused before any of it is believed.
"""

from __future__ import annotations

import functools
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, TypeAdapter, ValidationError

from ferocal.ledger import tables
from ferocal.ledger.integrity.seals import Broken, Rows
from ferocal.ledger.tables import Column, Table, columns_named
from ferocal.study.base import ArmName, Name
from ferocal.study.refusals import why_refused
from ferocal.terms.bounds import (
    FIRST_YEAR,
    LARGEST,
    LAST_YEAR,
    MOST_COUNTED,
    MOST_ROUNDS,
    MOST_SAMPLES,
    SMALLEST,
)
from ferocal.terms.wording import shortened

_Check = Callable[[str], Any]
# Names of a table and a column.
_Place = tuple[str, str]
_TextCheck = tuple[_Place, str, _Check]
# What a condition may be: a number, a word, or several.
_Number = Annotated[float, Field(ge=-LARGEST, le=LARGEST)]
_Condition = _Number | str | bool | list[str] | None


class _Open(BaseModel):
    """A JSON object with these keys, among others."""

    model_config = ConfigDict(extra="allow", strict=True)


class _CheckOfLevel(_Open):
    level: str
    expected: str
    seen: str
    holds: bool


class _Fact(_Open):
    name: str
    value: str
    kind: str


class _Subject(_Open):
    arguments: list[str] = []
    version: str | None = None
    files: dict[str, str] = {}
    statistics: dict[str, str | None] = {}


class _JudgedMetric(_Open):
    workload: str
    metric: str
    unit: str
    better: str
    role: str | None = None
    margin: str | None = None
    formula: str | None = None


class _Criteria(_Open):
    question: str
    margin: str
    planned_rounds: Annotated[int, Field(le=MOST_ROUNDS)]
    families: dict[str, list[tuple[str, str]]] = Field(strict=False)
    metrics: list[_JudgedMetric]


class _Overhead(_Open):
    wall: _Number
    cpu: _Number | None = None
    peak_memory: _Number | None = None


class _ImportedAs(_Open):
    columns: list[tuple[str, str, str]] = Field(strict=False)
    left_out: list[tuple[str, str]] = Field(strict=False)
    doubts: list[tuple[str, str]] = Field(strict=False)
    numbers: str


class _Conditions(_Open):
    before: dict[str, _Condition]
    after: dict[str, _Condition]
    busy_share_of_others: _Number | None = None
    busy_resolution: _Number | None = None
    stolen_share: _Number | None = None
    busiest_others: list[str] | None = None
    processors_allowed: Annotated[int, Field(ge=1, le=MOST_COUNTED)] | None = None
    utilisation: _Number | None = None
    left_behind: list[str] | None = None


class _Figures(_Open):
    seconds: _Number
    runs: int
    loop_seconds: _Number
    run_sd: _Number
    stretch_sd: _Number
    rounds: list[dict[str, Any]]
    first: list[str]


_Nothing = Annotated[dict[str, Any], Field(max_length=0)]
_JSON: dict[_Place, TypeAdapter[Any]] = {
    ("facts", "content"): TypeAdapter(list[_Fact]),
    ("session", "overhead"): TypeAdapter(_Overhead | _Nothing),
    ("session", "criteria"): TypeAdapter(_Criteria | _Nothing),
    ("session", "imported_as"): TypeAdapter(_ImportedAs),
    ("visit", "levels"): TypeAdapter(dict[str, str]),
    ("visit", "checks"): TypeAdapter(list[_CheckOfLevel]),
    ("visit", "subjects"): TypeAdapter(dict[str, _Subject]),
    ("visit", "remarks"): TypeAdapter(list[str]),
    ("run", "conditions"): TypeAdapter(_Conditions),
    ("claim", "content"): TypeAdapter(dict[str, Any]),
    ("bench_look", "figures"): TypeAdapter(_Figures),
}

_NAMES: dict[TypeAdapter[str], tuple[_Place, ...]] = {
    TypeAdapter(Name): columns_named("bench") + columns_named("workload"),
    TypeAdapter(ArmName): columns_named("configuration"),
}
_METRICS = (("metric", "name"), *columns_named("metric"))


_POSITIVE = f"{{}} < 1 OR {{}} > {MOST_ROUNDS}"
_COUNT, _AMOUNT = f"{{}} < 0 OR {{}} > {MOST_COUNTED}", "{} < 0"
# Digits of a moment with its zone, of a possible year and a day that there is.
_DAY = "[0-9][0-9][0-9][0-9]-[0-1][0-9]-[0-3][0-9]"
_CLOCK = "[0-2][0-9]:[0-5][0-9]:[0-5][0-9]"
_MOMENT = (
    f"{{}} <> '' AND NOT ({{}} GLOB '{_DAY}T{_CLOCK}*[-+][0-9][0-9]:[0-9][0-9]' "
    "AND instr({}, ' ') = 0 AND julianday({}) IS NOT NULL AND substr({}, 12, 2) < '24' "
    f"AND date(julianday(substr({{}}, 1, 10))) = substr({{}}, 1, 10) "
    f"AND {{}} >= '{FIRST_YEAR}' AND {{}} < '{LAST_YEAR + 1}')"
)
# A year, a month or a day, with a time or without.
_DATE = (
    "{} <> '' AND NOT ((length({}) IN (4, 7) "
    "AND date(julianday(substr({} || '-01-01', 1, 10))) = substr({} || '-01-01', 1, 10) "
    "OR date(julianday(substr({}, 1, 10))) = substr({}, 1, 10) AND julianday({}) IS NOT NULL) "
    f"AND {{}} >= '{FIRST_YEAR}' AND {{}} < '{LAST_YEAR + 1}')"
)
# A variance is the square of a number.
_VARIANCE = f"{{}} < 0 OR {{}} > {LARGEST**2!r}"
# What besides its kind is wrong with a value, as a condition of SQL on the column.
_RULES: dict[str, str] = {
    "uid": "length({}) <> 32 OR {} GLOB '*[^0-9a-f]*'",
    "round": _POSITIVE,
    "session.rounds": f"{{}} < 0 OR {{}} > {MOST_ROUNDS}",
    "limit": _POSITIVE,
    "position": _COUNT,
    "run.number": _COUNT,
    "trace.number": f"{{}} < 1 OR {{}} > {MOST_COUNTED}",
    "samples": f"{{}} < 1 OR {{}} > {MOST_SAMPLES}",
    "length": _COUNT,
    "size": _COUNT,
    "wall": _AMOUNT,
    "switching": _AMOUNT,
    "resolution": _AMOUNT,
    "variance": _VARIANCE,
    "run_variance": _VARIANCE,
    "degrees": _COUNT,
    "run_degrees": _COUNT,
    "low": '{} > "high"',
    "started_at": _MOMENT,
    "ended_at": _MOMENT,
    "measured_at": _MOMENT,
    "at": _MOMENT,
    "date": _DATE,
    "retrieved": _DATE,
}


# What SQLite calls the kinds of values that columns hold.
_KINDS = {"text": "text", "json": "text", "integer": "integer", "blob": "blob"}


def _rule_of(table: Table, column: Column) -> str:
    """When a value of a column is wrong, as a condition of SQL."""
    name = f'"{column.name}"'
    if column.holds == "boolean":
        wrong = f"typeof({name}) <> 'integer' OR {name} NOT IN (0, 1)"
    elif column.holds == "float":
        # A whole number may be kept as one.
        wrong = f"typeof({name}) NOT IN ('real', 'integer')"
        if not column.name.endswith("variance"):
            wrong += (
                f" OR abs({name}) > {LARGEST!r} OR ({name} <> 0 AND abs({name}) < {SMALLEST!r})"
            )
    else:
        wrong = f"typeof({name}) <> '{_KINDS[column.holds]}'"
    own = _RULES.get(f"{table.name}.{column.name}") or _RULES.get(column.name)
    if own is not None:
        wrong += f" OR ({own.replace('{}', name)})"
    if column.words:
        wrong += f" OR {name} NOT IN ({', '.join(repr(str(word)) for word in column.words)})"
    empty = "" if column.optional else f"{name} IS NULL OR "
    return f"{empty}({name} IS NOT NULL AND ({wrong}))"


def _query_of(table: Table, by: str, version: int) -> str:
    """A query of the wrong rows of a table with keys between two: key, wrong column, its value."""
    columns = [c for c in table.columns_of(version) if not c.key]
    which = " ".join(f"WHEN {_rule_of(table, c)} THEN '{c.name}'" for c in columns)
    value = " ".join(f'WHEN {_rule_of(table, c)} THEN "{c.name}"' for c in columns)
    return (
        f'SELECT "{table.row_key}", CASE {which} END AS wrong, CASE {value} END '
        f'FROM "{table.name}" WHERE "{by}" BETWEEN ? AND ? AND wrong IS NOT NULL'
    )


_ALL = (-(2**63), 2**63 - 1)
_CHECKED = tuple(t for t in tables.TABLES if t not in (tables.ABOUT, tables.CHAIN))


def broken_values(
    driver: sqlite3.Connection, version: int = tables.SCHEMA_VERSION
) -> Iterator[Broken]:
    """Rows with a value that no column of its kind can have, or that is no name."""
    for table in _CHECKED:
        yield from _broken_values_of(driver, table, table.row_key, _ALL, version)


def broken_among(driver: sqlite3.Connection, rows: Rows) -> Iterator[Broken]:
    """The same of some rows only; of runs, with what belongs to them."""
    ends = (rows.first, rows.last)
    yield from _broken_values_of(driver, rows.table, "id", ends)
    for table in tables.CHILDREN if rows.table is tables.RUN else ():
        yield from _broken_values_of(driver, table, "run_id", ends)


def _broken_values_of(
    driver: sqlite3.Connection,
    table: Table,
    by: str,
    ends: tuple[int, int],
    version: int = tables.SCHEMA_VERSION,
) -> Iterator[Broken]:
    query, texts = _checks_of(table, by, version)
    for key, column, value in driver.execute(query, ends):
        what = f"cannot have {column} = {shortened(repr(value), 40)}"
        yield Broken(table.name, key, what)
    for place, query, check in texts:
        yield from _wrong_texts(driver.execute(query, ends), place, check)


@functools.cache
def _checks_of(table: Table, by: str, version: int) -> tuple[str, list[_TextCheck]]:
    """A query of wrong rows, and for columns of texts a query of these and what checks them."""
    checks: dict[_Place, _Check] = {
        **{c: adapter.validate_python for adapter, columns in _NAMES.items() for c in columns},
        **dict.fromkeys(_METRICS, _check_metric),
        **{column: adapter.validate_json for column, adapter in _JSON.items()},
    }
    known = {(table.name, column.name) for column in table.columns_of(version)}
    # What is no text at all is found by the other query; each text is looked at only once.
    texts = [
        (
            place,
            f'SELECT min("id"), "{place[1]}" FROM "{table.name}" WHERE "{by}" BETWEEN ? AND ? '
            f'AND typeof("{place[1]}") = \'text\' GROUP BY "{place[1]}"',
            check,
        )
        for place, check in checks.items()
        if place in known
    ]
    return _query_of(table, by, version), texts


_PART = TypeAdapter(Annotated[str, StringConstraints(pattern=r"^[\w.%/-]*$")])


def _check_metric(text: str) -> None:
    """Check the name of a metric, behind which a part of a trace may have its own."""
    name, _, part = text.partition("/")
    TypeAdapter(Name).validate_python(name)
    _PART.validate_python(part)


def _wrong_texts(
    texts: Iterable[tuple[int, str]], place: _Place, check: _Check
) -> Iterator[Broken]:
    """Rows in which a text is refused."""
    for key, text in texts:
        try:
            check(text)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(part for part in map(str, first["loc"]) if not part.startswith("_"))
            what = f"{place[1]}{f'.{where}' if where else ''}"
            yield Broken(place[0], key, f"cannot have {what}: {why_refused(first)}")
