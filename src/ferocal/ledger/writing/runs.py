"""Recording as it happens: sessions, visits, steps, runs, looks."""

from __future__ import annotations

import uuid
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema, tables
from ferocal.ledger.records import (
    Absence,
    Ending,
    Outcome,
    SessionRecord,
    Slot,
    StepRecord,
    Value,
    VisitRecord,
    pack,
)
from ferocal.ledger.writing.keys import MetricKeys, facts_key
from ferocal.ledger.writing.store import WritableLedger, change_row, insert_row
from ferocal.study.masking import NOTHING_PRIVATE, Mask
from ferocal.terms.times import now
from ferocal.traces.packing import pack_trace


class Recorder:
    """Records what one session of measuring does, without what is private in the study.

    Methods raise `LedgerError` when the ledger cannot be written.
    """

    def __init__(self, ledger: WritableLedger, mask: Mask = NOTHING_PRIVATE) -> None:
        self.ledger = ledger
        self.mask = mask
        self._metric_keys = MetricKeys(ledger)
        self._session_id: int | None = None
        self.begun = ""  # the uid of the run that was begun last

    def begin_session(self, session: SessionRecord) -> None:
        """Record that `measure` was called; visits that follow belong to it."""
        values = {**vars(session), "criteria": self.mask.value(session.criteria)}
        self._session_id = self.ledger.insert(tables.SESSION, started_at=now(), **values)

    def begin_visit(self, visit: VisitRecord) -> int:
        """Record the beginning of a visit; returns its key."""
        values = {**vars(visit), "levels": dict(visit.levels)}
        for name in ("checks", "facts", "subjects", "remarks"):
            values[name] = self.mask.value(values[name])
        facts = values.pop("facts")
        with self.ledger.transaction() as connection:
            key = facts_key(self.ledger, connection, facts)
            return self.ledger.insert(
                tables.VISIT,
                connection,
                **values,
                session_id=self._session_id,
                started_at=now(),
                facts_id=key,
            )

    def end_visit(self, visit_id: int) -> None:
        """Record that a visit has ended."""
        self.ledger.update(tables.VISIT, visit_id, ended_at=now())

    def add_checks(self, visit_id: int, checks: list[dict[str, Any]]) -> None:
        """Record all checks of a visit so far, with those made during or after it."""
        self.ledger.update(tables.VISIT, visit_id, checks=self.mask.value(checks))

    def set_aside(self, visit_id: int, checks: list[dict[str, Any]]) -> None:
        """Mark a visit as not active, with the checks that failed during or after it."""
        self.ledger.update(
            tables.VISIT,
            visit_id,
            state="not active",
            checks=self.mask.value(checks),
            ended_at=now(),
        )

    def record_step(self, step: StepRecord) -> None:
        """Record what was done to the bench."""
        output = None if step.output is None else pack(self.mask.data(step.output))
        values = {**vars(step), "text": self.mask.text(step.text), "output": output}
        self.ledger.insert(tables.STEP, at=now(), **values)

    def record_look(self, bench: str, round: int, last_round: int) -> None:
        """Record a look at the results of a sequential study."""
        self.ledger.insert(tables.LOOK, at=now(), bench=bench, round=round, limit=last_round)

    def begin_run(self, visit_id: int, slot: Slot, position: int, *, warmup: bool) -> int:
        """Record that a run has begun, at a position in its visit; returns its key."""
        self.begun = uuid.uuid4().hex
        return self.ledger.insert(
            tables.RUN,
            uid=self.begun,
            visit_id=visit_id,
            workload=slot.workload,
            number=slot.number,
            warmup=warmup,
            position=position,
            started_at=now(),
            outcome=Outcome.RUNNING,
        )

    def end_run(self, run_id: int, ending: Ending) -> None:
        """Record how a run ended, with readings and output, in one transaction."""
        with self.ledger.transaction() as connection:
            self.ledger.touch(tables.RUN, run_id)
            names = ("outcome", "reason", "wall", "exit_status", "conditions")
            change_row(connection, tables.RUN, run_id, {n: getattr(ending, n) for n in names})
            self._insert_results(connection, run_id, ending)
            for stream, (content, size) in ending.streams.items():
                row = {"run_id": run_id, "stream": stream, "size": size, "content": pack(content)}
                insert_row(connection, tables.OUTPUT, row)

    def complete_run(self, run_id: int, ending: Ending) -> None:
        """Record the rest of a run of which some readings were recorded when it was interrupted."""
        with self.ledger.transaction() as connection:
            self.ledger.touch(tables.RUN, run_id)
            end = {"outcome": ending.outcome, "reason": ending.reason}
            change_row(connection, tables.RUN, run_id, end)
            self._insert_results(connection, run_id, ending)

    def _insert_results(self, connection: sa.Connection, run_id: int, ending: Ending) -> None:
        for value in ending.values:
            self._insert(connection, tables.READING, run_id, value)
        for gap in ending.absences:
            self._insert(connection, tables.ABSENCE, run_id, gap)
        for number, trace in enumerate(ending.traces, 1):
            self.ledger.insert(tables.TRACE, connection, run_id=run_id, **pack_trace(trace, number))

    def _insert(
        self, connection: sa.Connection, table: tables.Table, run_id: int, record: Value | Absence
    ) -> None:
        """Record a reading, or the mark in the place of one."""
        row = dict(vars(record))
        names = (row.pop("workload"), row.pop("metric"), row.pop("unit"))
        key = self._metric_keys.key(connection, *names)
        insert_row(connection, table, {"run_id": run_id, "metric_id": key, **row})

    def close_interrupted(self, reason: str = "Ferocal was ended during this run") -> int:
        """Mark runs that were never ended as interrupted; returns how many."""
        run = schema.run.c
        with self.ledger.transaction() as connection:
            running = sa.select(run.id).where(run.outcome == Outcome.RUNNING)
            keys = list(connection.scalars(running))
            for key in keys:
                end = {"outcome": Outcome.INTERRUPTED, "reason": self.mask.text(reason)}
                change_row(connection, tables.RUN, key, end)
                self.ledger.touch(tables.RUN, key)
        return len(keys)
