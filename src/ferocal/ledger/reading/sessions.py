"""Sessions: what was planned, looked at and asked, how long things took, what was loaded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


def read_planned_rounds(ledger: Ledger) -> dict[str, int]:
    """By bench, the number of rounds with which measuring began there."""
    c = schema.session.c
    query = sa.select(c.bench, c.rounds).where(c.rounds > 0).order_by(c.started_at.desc())
    return {bench: rounds for bench, rounds in ledger.rows(query) if bench is not None}


@dataclass(frozen=True)
class Durations:
    """Durations seen so far, in seconds: of runs by workload, and of switches."""

    runs: dict[str, float]
    switching: float | None


def read_durations(ledger: Ledger, bench: str) -> Durations:
    """Mean durations of runs that ended on a bench, and of switches that took place."""
    run, visit = schema.run.c, schema.visit.c
    runs = (
        sa.select(run.workload, sa.func.avg(run.wall))
        .join_from(schema.run, schema.visit)
        .where(run.wall.is_not(None), visit.bench == bench)
        .group_by(run.workload)
    )
    switching = sa.select(sa.func.avg(visit.switching)).where(
        visit.switching > 0, visit.bench == bench
    )
    return Durations({row[0]: row[1] for row in ledger.rows(runs)}, ledger.rows(switching)[0][0])


def read_last_looks(ledger: Ledger) -> dict[str, int]:
    """By bench, the last round of the sequential study there; empty where none was looked at."""
    c = schema.look.c
    query = sa.select(c.bench, c.limit).where(c.bench.is_not(None)).order_by(c.id)
    return dict(tuple(row) for row in ledger.rows(query))


@dataclass(frozen=True)
class SessionCriteria:
    """What judged the readings at the time of a session; see `study.criteria`."""

    started_at: str
    criteria: dict[str, Any]


def read_criteria(ledger: Ledger) -> list[SessionCriteria]:
    """The criteria of all sessions that made visits and kept criteria, in the order of time."""
    c = schema.session.c
    has_visits = sa.select(schema.visit.c.id).where(schema.visit.c.session_id == c.id).exists()
    query = sa.select(c.started_at, c.criteria).where(has_visits).order_by(c.started_at, c.id)
    return [SessionCriteria(*row) for row in ledger.rows(query) if row[1] is not None]


def find_load(ledger: Ledger, digest: str) -> tuple[str, str] | None:
    """When and from where a file of this digest was loaded before, if it was."""
    c = schema.session.c
    query = sa.select(c.started_at, c.source).where(c.digest.contains(digest)).limit(1)
    rows = ledger.rows(query)
    return (rows[0][0], rows[0][1]) if rows else None
