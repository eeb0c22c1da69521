"""All rows of a ledger as they are, for a bundle that others open."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


def dump_rows(ledger: Ledger, table: str) -> Iterator[dict[str, Any]]:
    """The rows of a table in the order of their keys, each value as the store has it."""
    columns = [column.name for column in schema.metadata.tables[table].columns]
    keys = [column.name for column in schema.metadata.tables[table].primary_key]
    named = ", ".join(f'"{name}"' for name in columns)
    order = ", ".join(f'"{name}"' for name in keys)
    with ledger.driver() as driver:
        for row in driver.execute(f'SELECT {named} FROM "{table}" ORDER BY {order}'):
            yield dict(zip(columns, row, strict=True))


# Parents before children.
TABLES = tuple(table.name for table in schema.metadata.sorted_tables)
