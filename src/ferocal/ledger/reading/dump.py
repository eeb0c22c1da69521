"""All rows of a table: as they are, for a bundle that others open, and as they are meant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ferocal.ledger.reading.sql import parsed
from ferocal.ledger.store import Ledger
from ferocal.ledger.tables import Table


def dump_rows(ledger: Ledger, table: Table) -> Iterator[dict[str, Any]]:
    """The rows of a table in the order of their keys, each value as the store has it."""
    columns = [column.name for column in table.columns]
    named, order = (", ".join(f'"{name}"' for name in names) for names in (columns, table.keys))
    with ledger.driver() as driver:
        for row in driver.execute(f'SELECT {named} FROM "{table.name}" ORDER BY {order}'):
            yield dict(zip(columns, row, strict=True))


def read_table(ledger: Ledger, table: Table) -> list[dict[str, Any]]:
    """The rows of a table in the order of their keys, with what JSON in them says."""
    names = [column.name for column in table.columns if column.holds == "json"]
    return [
        {**row, **{name: parsed(row[name]) for name in names}} for row in dump_rows(ledger, table)
    ]
