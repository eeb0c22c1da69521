"""Traces read from the ledger, one at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.reading.runs import COUNTS, read_excluded
from ferocal.ledger.store import Ledger
from ferocal.traces.packing import unpack_columns


@dataclass(frozen=True)
class TraceRow:
    """A trace with the bench and the configuration that it is of."""

    bench: str
    configuration: str
    columns: dict[str, np.ndarray]


def read_traces(ledger: Ledger, kind: str, workload: str, metric: str) -> Iterator[TraceRow]:
    """The captures of one metric, run by run, of runs that count.

    They are read one at a time: together they may be larger than the memory.

    Raises
    ------
    LedgerError
        When the ledger cannot be read, or a trace is damaged.
    """
    trace, run, visit = schema.trace.c, schema.run.c, schema.visit.c
    excluded = read_excluded(ledger)
    query = (
        sa.select(trace.id, run.id, visit.bench, visit.configuration)
        .join_from(schema.trace, schema.run)
        .join(schema.visit)
        .where(trace.kind == kind, trace.metric == metric, run.workload == workload)
        .where(*COUNTS)
        .order_by(run.id, trace.number)
    )
    for key, run_id, bench, configuration in ledger.rows(query):
        if run_id not in excluded:
            content = ledger.rows(sa.select(trace.content).where(trace.id == key))[0][0]
            yield TraceRow(bench, configuration, unpack_columns(content))
