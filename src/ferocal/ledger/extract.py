"""Reading the ledger in bulk, as columns."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger


@dataclass(frozen=True)
class Columns:
    """Valid readings as rows of numbers, and what the numbers stand for.

    ``readings`` has one tuple per reading: metric key, visit key, run key, value.
    ``excluded`` counts the runs that are marked as not to be used.
    """

    readings: list[tuple[int, int, int, float]]
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]
    excluded: int


@dataclass(frozen=True)
class VisitRow:
    """A visit as it was recorded."""

    bench: str
    configuration: str
    round: int | None
    started_at: str
    state: str
    checks: list[dict[str, Any]]
    facts_id: int
    subjects: dict[str, Any]
    remarks: list[str]


def read_columns(ledger: Ledger) -> Columns:
    """All valid readings: of runs that ended well and are not excluded, no warm-ups."""
    reading, run, visit = schema.reading.c, schema.run.c, schema.visit.c
    readings = (
        sa.select(reading.metric_id, run.visit_id, run.id, reading.value)
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .where(run.outcome == Outcome.OK, sa.not_(run.warmup), visit.state == "active")
        .order_by(run.id)
    )
    metric = schema.metric.c
    metrics = sa.select(metric.id, metric.workload, metric.name, metric.unit)
    excluded = read_excluded(ledger)
    return Columns(
        readings=[tuple(row) for row in ledger.rows(readings) if row[2] not in excluded],
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=read_visits(ledger),
        excluded=len(excluded),
    )


def read_excluded(ledger: Ledger) -> dict[int, str]:
    """Runs that are excluded at present, by key, with the reason."""
    c = schema.mark.c
    query = sa.select(c.run_id, c.excluded, c.reason).order_by(c.id)
    latest = {run_id: (excluded, reason) for run_id, excluded, reason in ledger.rows(query)}
    return {run_id: reason for run_id, (excluded, reason) in latest.items() if excluded}


def read_visits(ledger: Ledger) -> dict[int, VisitRow]:
    """All visits by key, in the order in which they were made."""
    c = schema.visit.c
    query = sa.select(
        c.id,
        c.bench,
        c.configuration,
        c.round,
        c.started_at,
        c.state,
        c.checks,
        c.facts_id,
        c.subjects,
        c.remarks,
    ).order_by(c.id)
    return {row[0]: VisitRow(*row[1:]) for row in ledger.rows(query)}


def read_facts(ledger: Ledger) -> dict[int, list[dict[str, Any]]]:
    """All distinct sets of facts by key."""
    query = sa.select(schema.facts.c.id, schema.facts.c.content)
    return {row[0]: row[1] for row in ledger.rows(query)}


@dataclass(frozen=True)
class FailedRun:
    """A run that yielded no valid readings."""

    configuration: str
    workload: str
    round: int | None
    outcome: str
    reason: str | None


def read_failures(ledger: Ledger) -> list[FailedRun]:
    """Runs that failed or overran, in order, warm-ups included."""
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(visit.configuration, run.workload, visit.round, run.outcome, run.reason)
        .join_from(schema.run, schema.visit)
        .where(run.outcome.in_((Outcome.FAILED, Outcome.OVERRAN)))
        .order_by(run.id)
    )
    return [FailedRun(*row) for row in ledger.rows(query)]


def count_outcomes(ledger: Ledger) -> Counter[str]:
    """Number of runs by outcome, warm-ups left out."""
    run = schema.run.c
    query = sa.select(run.outcome, sa.func.count()).where(sa.not_(run.warmup)).group_by(run.outcome)
    return Counter({row[0]: row[1] for row in ledger.rows(query)})


def last_levels(ledger: Ledger, bench: str) -> dict[str, str]:
    """The level of each factor that the bench was last switched to, as far as recorded."""
    c = schema.step.c
    query = (
        sa.select(c.factor, c.level)
        .where(c.bench == bench, c.kind.in_(("switch", "hold")), c.state.in_(("done", "continued")))
        .order_by(c.id)
    )
    return dict(ledger.rows(query))


def was_visited(ledger: Ledger, bench: str) -> bool:
    """Whether any visit to a bench has been recorded."""
    c = schema.visit.c
    return bool(ledger.rows(sa.select(c.id).where(c.bench == bench).limit(1)))


def waiting_hold(ledger: Ledger, bench: str) -> tuple[str, str] | None:
    """Factor and level of the hold at which measuring last ended, if it was at one."""
    c = schema.step.c
    query = sa.select(c.factor, c.level, c.state).where(c.bench == bench).order_by(c.id.desc())
    rows = ledger.rows(query.limit(1))
    return (rows[0][0], rows[0][1]) if rows and rows[0][2] == "waiting" else None


@dataclass(frozen=True)
class Durations:
    """Durations seen so far, in seconds: of runs by workload, and of switches."""

    runs: dict[str, float]
    switching: float | None


def read_durations(ledger: Ledger) -> Durations:
    """Mean durations of runs that ended, and of switches that took place."""
    run, visit = schema.run.c, schema.visit.c
    runs = (
        sa.select(run.workload, sa.func.avg(run.wall))
        .where(run.wall.is_not(None))
        .group_by(run.workload)
    )
    switching = sa.select(sa.func.avg(visit.switching)).where(visit.switching > 0)
    return Durations({row[0]: row[1] for row in ledger.rows(runs)}, ledger.rows(switching)[0][0])


def read_looks(ledger: Ledger) -> list[tuple[int, int]]:
    """Looks of a sequential study in order: round, and limit of rounds."""
    c = schema.look.c
    return [tuple(row) for row in ledger.rows(sa.select(c.round, c.limit).order_by(c.id))]
