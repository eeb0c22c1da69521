"""Marks and notes: what people add to what was measured, never taking anything away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.errors import UsageError
from ferocal.ledger import schema
from ferocal.ledger.extract import read_excluded
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger


@dataclass(frozen=True)
class RunRow:
    """A run with its readings, as `ferocal readings` lists it. ``id`` is shortened."""

    id: str
    started_at: str
    bench: str
    configuration: str
    round: int | None
    visit: str
    position: int
    workload: str
    number: int
    warmup: bool
    outcome: str
    reason: str | None
    excluded: str | None
    wall: float | None
    conditions: dict[str, Any] | None
    values: dict[str, tuple[float, str]]

    @property
    def excuse(self) -> str:
        """Why the run does not count, empty if it does."""
        if self.excluded is not None:
            return f"excluded: {self.excluded}"
        if self.outcome == Outcome.OK:
            return ""
        return self.outcome if self.reason is None else f"{self.outcome}: {self.reason}"


# Enough of a random uid to be unique in a ledger of a million runs, nearly always.
ID_LENGTH = 10


def read_runs(ledger: Ledger) -> list[RunRow]:
    """All runs in the order in which they were taken, warm-ups included."""
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(
            run.id, run.uid, run.started_at, visit.bench, visit.configuration, visit.round,
            visit.uid, run.position, run.workload, run.number, run.warmup, run.outcome,
            run.reason, run.wall, run.conditions, visit.state,
        )
        .join_from(schema.run, schema.visit)
        .order_by(run.id)
    )  # fmt: skip
    excluded, values = read_excluded(ledger), _read_values(ledger)
    return [
        RunRow(
            id=row[1][:ID_LENGTH],
            started_at=row[2],
            bench=row[3],
            configuration=row[4],
            round=row[5],
            visit=row[6][:ID_LENGTH],
            position=row[7],
            workload=row[8],
            number=row[9],
            warmup=row[10],
            outcome="not active" if row[15] != "active" else row[11],
            reason=row[12],
            excluded=excluded.get(row[0]),
            wall=row[13],
            conditions=row[14],
            values=values.get(row[0], {}),
        )
        for row in ledger.rows(query)
    ]


def _read_values(ledger: Ledger) -> dict[int, dict[str, tuple[float, str]]]:
    reading, metric = schema.reading.c, schema.metric.c
    query = sa.select(reading.run_id, metric.name, reading.value, metric.unit).join_from(
        schema.reading, schema.metric
    )
    values: dict[int, dict[str, tuple[float, str]]] = {}
    for run_id, name, value, unit in ledger.rows(query):
        values.setdefault(run_id, {})[name] = (value, unit)
    return values


def find_runs(ledger: Ledger, ids: Sequence[str]) -> list[int]:
    """Keys of the runs whose uids begin with the given texts.

    Raises
    ------
    UsageError
        When a text fits no run, or several; all such texts are told.
    """
    rows = ledger.rows(sa.select(schema.run.c.id, schema.run.c.uid))
    found, problems = [], []
    for text in ids:
        keys = [key for key, uid in rows if text and uid.startswith(text)]
        if len(keys) == 1:
            found.append(keys[0])
        else:
            problems.append(f'"{text}" fits {len(keys) or "no"} run{"s" if keys else ""}')
    if problems:
        listed = ", ".join(problems)
        raise UsageError(f"{listed}; `ferocal readings` lists the runs; nothing was marked")
    return found


def mark_runs(ledger: Ledger, ids: Sequence[str], *, excluded: bool, reason: str) -> int:
    """Exclude runs, or lift their exclusion; returns how many marks that made.

    Raises
    ------
    UsageError
        When a run is not known, or is marked so already; then nothing is marked.
    """
    keys = find_runs(ledger, ids)
    now_excluded = read_excluded(ledger)
    idle = [text for text, key in zip(ids, keys, strict=True) if (key in now_excluded) == excluded]
    if idle:
        state = "excluded already" if excluded else "not excluded"
        raise UsageError(f"{', '.join(idle)}: {state}; nothing was marked")
    ledger.insert_all(
        schema.mark,
        [{"run_id": key, "excluded": excluded, "reason": reason} for key in dict.fromkeys(keys)],
    )
    return len(set(keys))


def add_note(ledger: Ledger, subject: str, name: str, text: str) -> None:
    """Keep a note on a "study", "configuration", "workload" or "run" of some name."""
    ledger.insert_all(schema.note, [{"subject": subject, "name": name, "text": text}])


def read_notes(ledger: Ledger) -> list[tuple[str, str, str, str]]:
    """All notes in order: time, subject, name, text."""
    c = schema.note.c
    query = sa.select(c.at, c.subject, c.name, c.text).order_by(c.id)
    return [tuple(row) for row in ledger.rows(query)]
