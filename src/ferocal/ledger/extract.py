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
    """

    readings: list[tuple[int, int, int, float]]
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]


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


def read_columns(ledger: Ledger) -> Columns:
    """All valid readings: of runs that ended well, warm-ups left out."""
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
    return Columns(
        readings=[tuple(row) for row in ledger.rows(readings)],
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=read_visits(ledger),
    )


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
    ).order_by(c.id)
    return {row[0]: VisitRow(*row[1:]) for row in ledger.rows(query)}


def read_facts(ledger: Ledger) -> dict[int, dict[str, Any]]:
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
