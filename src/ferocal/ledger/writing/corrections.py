"""Corrections: a reading that was wrong is replaced, and stays in the ledger."""

from __future__ import annotations

import sqlalchemy as sa

from ferocal.errors import UsageError
from ferocal.ledger import schema
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.records import Value
from ferocal.ledger.store import Ledger


def correct_reading(ledger: Ledger, run_id: int, value: Value, reason: str) -> float:
    """Correct a reading of a run; returns what it was before, as corrected until now.

    Raises
    ------
    UsageError
        When the run has no reading of that metric; the message lists those that it has.
    LedgerError
        When the ledger cannot be written.
    """
    reading, metric = schema.reading.c, schema.metric.c
    query = (
        sa.select(metric.name, metric.id, reading.value)
        .join_from(schema.reading, schema.metric)
        .where(reading.run_id == run_id)
    )
    with ledger.together():
        known = {name: (key, old) for name, key, old in ledger.rows(query)}
        if value.metric not in known:
            names = ", ".join(known) or "none"
            raise UsageError(
                f'the run has no reading of "{value.metric}"; it has {names}. Nothing was changed'
            )
        key, old = known[value.metric]
        earlier = read_corrections(ledger).get((run_id, key))
        if earlier is not None:
            old = earlier.value
        row = {
            "run_id": run_id,
            "metric_id": key,
            "value": value.value,
            "low": value.low,
            "high": value.high,
            "bound": value.bound,
            "reason": reason,
        }
        ledger.insert_all(schema.correction, [row])
    return float(old)
