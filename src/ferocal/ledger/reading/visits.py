"""Visits, the facts and conditions around them, and where the bench was last."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger


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
    known: bool


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
        c.known,
    ).order_by(c.id)
    return {row[0]: VisitRow(*row[1:]) for row in ledger.rows(query)}


def recorded_facts(ledger: Ledger) -> dict[int, list[dict[str, Any]]]:
    """All distinct sets of facts by key."""
    query = sa.select(schema.facts.c.id, schema.facts.c.content)
    return {row[0]: row[1] for row in ledger.rows(query)}


def read_conditions(ledger: Ledger, most: int) -> list[tuple[int, dict[str, Any]]]:
    """Visit and conditions of runs that ended well, of every n-th if there are many.

    Conditions are long texts, and those of a few thousand runs say what all say.
    """
    run = schema.run.c
    wanted = (run.outcome == Outcome.OK, sa.not_(run.warmup), run.conditions.is_not(None))
    total = ledger.rows(sa.select(sa.func.count()).where(*wanted))[0][0]
    every = max(1, total // most)
    query = sa.select(run.visit_id, run.conditions).where(*wanted, run.id % every == 0)
    return [tuple(row) for row in ledger.rows(query.order_by(run.id))]


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
