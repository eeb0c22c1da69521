"""Keys of rows that are shared: metrics, and sets of facts."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema, tables
from ferocal.ledger.writing.store import WritableLedger, insert_row


class MetricKeys:
    """The keys of metrics, each looked up or made once."""

    def __init__(self, ledger: WritableLedger) -> None:
        self._ledger = ledger
        self._known: dict[tuple[str, str, str], int] = {}

    def key(self, connection: sa.Connection, workload: str, name: str, unit: str) -> int:
        """The key of a metric, which is made if it is new."""
        identity = (workload, name, unit)
        if identity in self._known:
            return self._known[identity]
        columns = schema.metric.c
        same = (columns.workload == workload, columns.name == name, columns.unit == unit)
        found = connection.scalar(sa.select(columns.id).where(*same))
        if found is None:
            # Not remembered before the next time, for this transaction may yet fail.
            row = {"workload": workload, "name": name, "unit": unit}
            return _insert(self._ledger, connection, tables.METRIC, row)
        self._known[identity] = int(found)
        return int(found)


def facts_digest(content: list[dict[str, Any]]) -> str:
    """The digest by which a set of facts is known."""
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def facts_key(
    ledger: WritableLedger, connection: sa.Connection, content: list[dict[str, Any]]
) -> int:
    """The key of a set of facts, which is recorded if it is new."""
    digest = facts_digest(content)
    columns = schema.facts.c
    found = connection.scalar(sa.select(columns.id).where(columns.digest == digest))
    if found is not None:
        return int(found)
    row = {"digest": digest, "content": content}
    return _insert(ledger, connection, tables.FACTS, row)


def _insert(
    ledger: WritableLedger, connection: sa.Connection, table: tables.Table, row: dict[str, Any]
) -> int:
    key = insert_row(connection, table, row)
    ledger.touch(table, key)
    return key
