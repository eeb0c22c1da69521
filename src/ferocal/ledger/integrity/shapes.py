"""What a row may hold: kinds of values, numbers in bounds, names, JSON of the right shape.

The database keeps anything in any column. What Ferocal writes is right; a ledger that was made or
changed by something else is refused before any of it is believed.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from typing import Annotated, Any

import sqlalchemy as sa
from pydantic import BaseModel, ConfigDict, Field, StringConstraints, TypeAdapter, ValidationError

from ferocal.ledger import schema
from ferocal.ledger.integrity.seals import Broken
from ferocal.ledger.records import MOST_ROUNDS, Mark, Outcome
from ferocal.study.base import ArmName, Name
from ferocal.terms.wording import shortened

_LARGEST = 1.797e308


class _Open(BaseModel):
    """A JSON object with these keys, among others."""

    model_config = ConfigDict(extra="allow", strict=True)


class _Check(_Open):
    level: str
    expected: str
    seen: str
    holds: bool


class _Fact(_Open):
    name: str
    value: str


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
    planned_rounds: int
    families: dict[str, list[tuple[str, str]]] = Field(strict=False)
    metrics: list[_JudgedMetric]


class _Overhead(_Open):
    wall: float
    cpu: float | None = None
    peak_memory: float | None = None


class _Conditions(_Open):
    before: dict[str, Any]
    after: dict[str, Any]


class _Figures(_Open):
    seconds: float
    runs: int
    loop_seconds: float
    run_sd: float
    stretch_sd: float
    rounds: list[dict[str, Any]]
    first: list[str]


_Nothing = Annotated[dict[str, Any], Field(max_length=0)]
_JSON: dict[sa.Column[Any], TypeAdapter[Any]] = {
    schema.facts.c.content: TypeAdapter(list[_Fact]),
    schema.session.c.overhead: TypeAdapter(_Overhead | _Nothing),
    schema.session.c.criteria: TypeAdapter(_Criteria | _Nothing),
    schema.visit.c.levels: TypeAdapter(dict[str, str]),
    schema.visit.c.checks: TypeAdapter(list[_Check]),
    schema.visit.c.subjects: TypeAdapter(dict[str, _Subject]),
    schema.visit.c.remarks: TypeAdapter(list[str]),
    schema.run.c.conditions: TypeAdapter(_Conditions),
    schema.claim.c.content: TypeAdapter(dict[str, Any]),
    schema.bench_look.c.figures: TypeAdapter(_Figures),
}

_NAMES: dict[TypeAdapter[str], tuple[sa.Column[Any], ...]] = {
    TypeAdapter(Name): (
        schema.visit.c.bench, schema.run.c.workload, schema.metric.c.workload,
        schema.session.c.bench, schema.step.c.bench, schema.look.c.bench,
        schema.bench_look.c.bench, schema.noise_floor.c.bench, schema.noise_floor.c.workload,
        schema.reference.c.workload, schema.note.c.workload,
    ),
    TypeAdapter(ArmName): (schema.visit.c.configuration, schema.note.c.configuration),
}  # fmt: skip
_METRICS = (
    schema.metric.c.name, schema.trace.c.metric, schema.noise_floor.c.metric,
    schema.reference.c.metric,
)  # fmt: skip


def _one_of(*words: str) -> str:
    return f"{{}} NOT IN ({', '.join(repr(str(word)) for word in words)})"


_POSITIVE, _COUNT, _AMOUNT = f"{{}} < 1 OR {{}} > {MOST_ROUNDS}", "{} < 0", "{} < 0"
_BOUND = _one_of("<", ">")
_TIME = "{} <> '' AND {} NOT GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]*'"
# What besides its kind is wrong with a value, as a condition of SQL on the column.
_RULES: dict[str, str] = {
    "uid": "length({}) <> 32 OR {} GLOB '*[^0-9a-f]*'",
    "round": _POSITIVE,
    "session.rounds": f"{{}} < 0 OR {{}} > {MOST_ROUNDS}",
    "limit": _POSITIVE,
    "position": _COUNT,
    "run.number": _COUNT,
    "trace.number": "{} < 1",
    "samples": "{} < 1",
    "length": _COUNT,
    "size": _COUNT,
    "wall": _AMOUNT,
    "switching": _AMOUNT,
    "resolution": _AMOUNT,
    "variance": _AMOUNT,
    "run_variance": _AMOUNT,
    "degrees": _COUNT,
    "run_degrees": _COUNT,
    "bound": _BOUND,
    "run.outcome": _one_of(*Outcome),
    "visit.state": _one_of("active", "not active"),
    "session.kind": _one_of("measure", "enter", "load"),
    "trace.kind": _one_of("frames", "soak"),
    "absence.mark": _one_of(*Mark),
    "output.stream": _one_of("stdout", "stderr"),
    "noise_floor.scale": _one_of("ratio", "difference"),
    "started_at": _TIME,
    "ended_at": _TIME,
    "at": _TIME,
}


def _rule_of(column: sa.Column[Any]) -> str:
    """When a value of a column is wrong, as a condition of SQL."""
    name = f'"{column.name}"'
    if isinstance(column.type, sa.Boolean):
        wrong = f"typeof({name}) <> 'integer' OR {name} NOT IN (0, 1)"
    elif isinstance(column.type, sa.Float):
        # A whole number may be kept as one.
        wrong = f"typeof({name}) NOT IN ('real', 'integer') OR abs({name}) > {_LARGEST}"
    else:
        kinds = {sa.Integer: "integer", sa.LargeBinary: "blob"}
        kind = next((word for base, word in kinds.items() if isinstance(column.type, base)), "text")
        wrong = f"typeof({name}) <> '{kind}'"
    own = _RULES.get(f"{column.table.name}.{column.name}") or _RULES.get(column.name)
    if own is not None:
        wrong += f" OR ({own.replace('{}', name)})"
    empty = "" if column.nullable else f"{name} IS NULL OR "
    return f"{empty}({name} IS NOT NULL AND ({wrong}))"


def _query_of(table: sa.Table) -> str:
    """A query of the wrong rows of a table: key, name of a wrong column, its value."""
    columns = [column for column in table.columns if not column.primary_key]
    which = " ".join(f"WHEN {_rule_of(c)} THEN '{c.name}'" for c in columns)
    value = " ".join(f'WHEN {_rule_of(c)} THEN "{c.name}"' for c in columns)
    key = "run_id" if "run_id" in table.primary_key.columns else "id"
    return (
        f'SELECT "{key}", CASE {which} END AS wrong, CASE {value} END FROM "{table.name}" '
        f"WHERE wrong IS NOT NULL LIMIT {_SHOWN}"
    )


_SHOWN = 20
_CHECKED = tuple(t for t in schema.metadata.sorted_tables if t.name not in ("about", "chain"))


def broken_values(driver: sqlite3.Connection) -> Iterator[Broken]:
    """Rows with a value that no column of its kind can have, or that is no name."""
    for table in _CHECKED:
        for key, column, value in driver.execute(_query_of(table)):
            yield _broken(table, key, column, value)
    for adapter, names in _NAMES.items():
        for column in names:
            yield from _wrong_texts(driver, column, adapter.validate_python)
    for column in _METRICS:
        yield from _wrong_texts(driver, column, _check_metric)
    for column, adapter in _JSON.items():
        yield from _wrong_texts(driver, column, adapter.validate_json)


_PART = TypeAdapter(Annotated[str, StringConstraints(pattern=r"^[\w.%/-]*$")])


def _check_metric(text: str) -> None:
    """Check the name of a metric, behind which a part of a trace may have its own."""
    name, _, part = text.partition("/")
    TypeAdapter(Name).validate_python(name)
    _PART.validate_python(part)


def _wrong_texts(
    driver: sqlite3.Connection, column: sa.Column[Any], check: Callable[[str], Any]
) -> Iterator[Broken]:
    """Rows in which a text is refused; each text is looked at once."""
    table, name = column.table, f'"{column.name}"'
    # What is no text at all was found before.
    kind = f"typeof({name}) = 'text'"
    query = f'SELECT min("id"), {name} FROM "{table.name}" WHERE {kind} GROUP BY {name}'
    for key, text in driver.execute(query):
        try:
            check(text)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(map(str, first["loc"]))
            what = f"{column.name}{f'.{where}' if where else ''}"
            yield Broken(table.name, key, f"cannot have {what} as it is: {first['msg']}")


def _broken(table: sa.Table, key: int, column: str, value: Any) -> Broken:
    return Broken(table.name, key, f"cannot have {column} = {shortened(repr(value), 40)}")
