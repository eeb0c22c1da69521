"""What a row may hold: kinds of values, numbers in bounds, names, JSON of the right shape.

The database keeps anything in any column. What Ferocal writes is right; a ledger that was made or
changed by something else is refused before any of it is believed.
"""

from __future__ import annotations

import functools
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from typing import Annotated, Any

import sqlalchemy as sa
from pydantic import BaseModel, ConfigDict, Field, StringConstraints, TypeAdapter, ValidationError

from ferocal.ledger import schema
from ferocal.ledger.integrity.seals import Broken, Rows
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
_TextCheck = tuple[sa.Column[Any], str, _Check]
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
_JSON: dict[sa.Column[Any], TypeAdapter[Any]] = {
    schema.facts.c.content: TypeAdapter(list[_Fact]),
    schema.session.c.overhead: TypeAdapter(_Overhead | _Nothing),
    schema.session.c.criteria: TypeAdapter(_Criteria | _Nothing),
    schema.session.c.imported_as: TypeAdapter(_ImportedAs),
    schema.visit.c.levels: TypeAdapter(dict[str, str]),
    schema.visit.c.checks: TypeAdapter(list[_CheckOfLevel]),
    schema.visit.c.subjects: TypeAdapter(dict[str, _Subject]),
    schema.visit.c.remarks: TypeAdapter(list[str]),
    schema.run.c.conditions: TypeAdapter(_Conditions),
    schema.claim.c.content: TypeAdapter(dict[str, Any]),
    schema.bench_look.c.figures: TypeAdapter(_Figures),
}

_NAMES: dict[TypeAdapter[str], tuple[sa.Column[Any], ...]] = {
    TypeAdapter(Name): schema.columns_named("bench") + schema.columns_named("workload"),
    TypeAdapter(ArmName): schema.columns_named("configuration"),
}
_METRICS = (schema.metric.c.name, *schema.columns_named("metric"))


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


def _rule_of(column: sa.Column[Any]) -> str:
    """When a value of a column is wrong, as a condition of SQL."""
    name = f'"{column.name}"'
    if isinstance(column.type, sa.Boolean):
        wrong = f"typeof({name}) <> 'integer' OR {name} NOT IN (0, 1)"
    elif isinstance(column.type, sa.Float):
        # A whole number may be kept as one.
        wrong = f"typeof({name}) NOT IN ('real', 'integer')"
        if not column.name.endswith("variance"):
            wrong += (
                f" OR abs({name}) > {LARGEST!r} OR ({name} <> 0 AND abs({name}) < {SMALLEST!r})"
            )
    else:
        kinds = {sa.Integer: "integer", sa.LargeBinary: "blob"}
        kind = next((word for base, word in kinds.items() if isinstance(column.type, base)), "text")
        wrong = f"typeof({name}) <> '{kind}'"
    own = _RULES.get(f"{column.table.name}.{column.name}") or _RULES.get(column.name)
    if own is not None:
        wrong += f" OR ({own.replace('{}', name)})"
    if words := column.info.get("words"):
        wrong += f" OR {name} NOT IN ({', '.join(repr(str(word)) for word in words)})"
    empty = "" if column.nullable else f"{name} IS NULL OR "
    return f"{empty}({name} IS NOT NULL AND ({wrong}))"


def _query_of(table: sa.Table, by: str, version: int) -> str:
    """A query of the wrong rows of a table with keys between two: key, wrong column, its value."""
    columns = [c for c in schema.columns_of(table, version) if not c.primary_key]
    which = " ".join(f"WHEN {_rule_of(c)} THEN '{c.name}'" for c in columns)
    value = " ".join(f'WHEN {_rule_of(c)} THEN "{c.name}"' for c in columns)
    return (
        f'SELECT "{key_column(table)}", CASE {which} END AS wrong, CASE {value} END '
        f'FROM "{table.name}" WHERE "{by}" BETWEEN ? AND ? AND wrong IS NOT NULL'
    )


def key_column(table: sa.Table) -> str:
    """The column by which a row of a table is named; those of a run, by the run."""
    return "run_id" if "run_id" in table.primary_key.columns else "id"


_ALL = (-(2**63), 2**63 - 1)
_CHECKED = tuple(t for t in schema.metadata.sorted_tables if t.name not in ("about", "chain"))


def broken_values(
    driver: sqlite3.Connection, version: int = schema.SCHEMA_VERSION
) -> Iterator[Broken]:
    """Rows with a value that no column of its kind can have, or that is no name."""
    for table in _CHECKED:
        yield from _broken_values_of(driver, table, key_column(table), _ALL, version)


def broken_among(driver: sqlite3.Connection, rows: Rows) -> Iterator[Broken]:
    """The same of some rows only; of runs, with what belongs to them."""
    ends = (rows.first, rows.last)
    yield from _broken_values_of(driver, rows.table, "id", ends)
    for table in schema.CHILDREN if rows.table is schema.run else ():
        yield from _broken_values_of(driver, table, "run_id", ends)


def _broken_values_of(
    driver: sqlite3.Connection,
    table: sa.Table,
    by: str,
    ends: tuple[int, int],
    version: int = schema.SCHEMA_VERSION,
) -> Iterator[Broken]:
    query, texts = _checks_of(table, by, version)
    for key, column, value in driver.execute(query, ends):
        what = f"cannot have {column} = {shortened(repr(value), 40)}"
        yield Broken(table.name, key, what)
    for column, query, check in texts:
        yield from _wrong_texts(driver.execute(query, ends), column, check)


@functools.cache
def _checks_of(table: sa.Table, by: str, version: int) -> tuple[str, list[_TextCheck]]:
    """A query of wrong rows, and for columns of texts a query of these and what checks them."""
    checks: dict[sa.Column[Any], _Check] = {
        **{c: adapter.validate_python for adapter, columns in _NAMES.items() for c in columns},
        **dict.fromkeys(_METRICS, _check_metric),
        **{column: adapter.validate_json for column, adapter in _JSON.items()},
    }
    known = schema.columns_of(table, version)
    # What is no text at all is found by the other query; each text is looked at only once.
    texts = [
        (
            column,
            f'SELECT min("id"), "{column.name}" FROM "{table.name}" WHERE "{by}" BETWEEN ? AND ? '
            f'AND typeof("{column.name}") = \'text\' GROUP BY "{column.name}"',
            check,
        )
        for column, check in checks.items()
        if column.table is table and column in known
    ]
    return _query_of(table, by, version), texts


_PART = TypeAdapter(Annotated[str, StringConstraints(pattern=r"^[\w.%/-]*$")])


def _check_metric(text: str) -> None:
    """Check the name of a metric, behind which a part of a trace may have its own."""
    name, _, part = text.partition("/")
    TypeAdapter(Name).validate_python(name)
    _PART.validate_python(part)


def _wrong_texts(
    texts: Iterable[tuple[int, str]], column: sa.Column[Any], check: _Check
) -> Iterator[Broken]:
    """Rows in which a text is refused."""
    for key, text in texts:
        try:
            check(text)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(part for part in map(str, first["loc"]) if not part.startswith("_"))
            what = f"{column.name}{f'.{where}' if where else ''}"
            yield Broken(column.table.name, key, f"cannot have {what}: {why_refused(first)}")
