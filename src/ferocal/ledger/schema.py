"""Tables of the ledger in portable SQL types, for what writes them: see `tables`."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from ferocal.ledger import tables

metadata = sa.MetaData()
_TYPES: dict[tables.Holds, Any] = {
    "integer": sa.Integer, "float": sa.Float, "boolean": sa.Boolean, "blob": sa.LargeBinary,
}  # fmt: skip


def _type_of(column: tables.Column) -> Any:
    """The type of a column in SQL."""
    if column.holds == "json":
        return sa.JSON(none_as_null=column.optional)
    if column.holds == "text":
        return sa.Text() if column.size is None else sa.String(column.size)
    return _TYPES[column.holds]()


def _column(column: tables.Column) -> sa.Column[Any]:
    kind = [sa.ForeignKey(f"{column.of}.id")] if column.of else [_type_of(column)]
    return sa.Column(
        column.name,
        *kind,
        primary_key=column.key,
        nullable=column.optional,
        unique=column.unique or None,
        index=column.indexed or None,
        server_default=column.default,
    )


def _made(table: tables.Table) -> sa.Table:
    together = [sa.UniqueConstraint(*table.together)] if table.together else []
    return sa.Table(table.name, metadata, *map(_column, table.columns), *together)


_MADE = {table.name: _made(table) for table in tables.TABLES}


def of(table: tables.Table) -> sa.Table:
    """The table of SQLAlchemy that a description is of."""
    return _MADE[table.name]


about = of(tables.ABOUT)
metric = of(tables.METRIC)
facts = of(tables.FACTS)
session = of(tables.SESSION)
visit = of(tables.VISIT)
run = of(tables.RUN)
reading = of(tables.READING)
absence = of(tables.ABSENCE)
trace = of(tables.TRACE)
output = of(tables.OUTPUT)
step = of(tables.STEP)
claim = of(tables.CLAIM)
