"""Readings that were loaded or typed, as the rows of a file state them."""

from __future__ import annotations

from typing import NamedTuple

from ferocal.ledger import tables
from ferocal.ledger.reading.sql import of_runs
from ferocal.ledger.store import Ledger


class RowCore(NamedTuple):
    """What every row of a file states."""

    bench: str
    configuration: str
    workload: str
    metric: str
    value: float
    bound: str


class RowRest(NamedTuple):
    """What a row may state besides; −1 and "" where it does not."""

    round: int
    visit: str
    started_at: str


def read_rows(ledger: Ledger) -> list[tuple[RowCore, RowRest]]:
    """All readings that were not measured by Ferocal, as they came, corrected or not."""
    query = (
        "SELECT visit.bench, visit.configuration, metric.workload, metric.name, reading.value, "
        f"reading.bound, visit.round, visit.name, run.started_at FROM {of_runs(tables.READING)} "
        "JOIN session ON session.id = visit.session_id WHERE session.kind <> 'measure'"
    )
    return [
        (
            RowCore(row[0], row[1], row[2], row[3], row[4], row[5] or ""),
            RowRest(-1 if row[6] is None else row[6], row[7] or "", row[8]),
        )
        for row in ledger.rows(query)
    ]
