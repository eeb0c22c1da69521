"""Visits, and their order in time, whatever the clock of the machine did meanwhile."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger

# Compared with each other.
TimePlace = tuple[str, int]
# The time of what has none.
NOWHERE: TimePlace = ("", 0)


@dataclass(frozen=True)
class VisitRow:
    """A visit as it was recorded; ``started_at`` is "" where the time is unknown.

    ``place`` is what visits are ordered by in time.
    """

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
    name: str | None = None
    place: TimePlace = NOWHERE


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
        c.name,
    ).order_by(c.id)
    rows = ledger.rows(query)
    places = read_places(ledger)  # afterwards: visits may be made meanwhile
    return {row[0]: replace(VisitRow(*row[1:]), place=places[row[0]]) for row in rows}


def read_places(ledger: Ledger) -> dict[int, TimePlace]:
    """By key of a visit what visits are ordered by in time."""
    visit, session = schema.visit.c, schema.session.c
    # It is unknown whether sessions of earlier versions were merged.
    live = sa.and_(session.kind == "measure", session.merged.is_(False))
    query = sa.select(visit.id, visit.started_at, sa.func.coalesce(live, False))
    joined = query.join_from(schema.visit, schema.session).order_by(visit.id)
    return places_in_time(tuple(row) for row in ledger.rows(joined))


@dataclass(frozen=True)
class NamedVisit:
    """A visit that people have named; ``started_at`` is "" where unknown."""

    key: int
    round: int | None
    started_at: str


def read_named_visits(ledger: Ledger) -> dict[tuple[str, str, str], NamedVisit]:
    """Visits with a name, by bench, configuration and name; of merged ones the first."""
    c = schema.visit.c
    query = sa.select(c.bench, c.configuration, c.name, c.id, c.round, c.started_at)
    rows = ledger.rows(query.where(c.name.is_not(None)).order_by(c.id.desc()))
    return {tuple(row[:3]): NamedVisit(*row[3:]) for row in rows}


def recorded_facts(ledger: Ledger) -> dict[int, list[dict[str, Any]]]:
    """All distinct sets of facts by key."""
    query = sa.select(schema.facts.c.id, schema.facts.c.content)
    return {row[0]: row[1] for row in ledger.rows(query)}


def read_conditions(ledger: Ledger, most: int) -> list[tuple[int, dict[str, Any]]]:
    """Visit and conditions of runs that ended well, of every n-th if there are many.

    The workload of the run is among them. Conditions are long texts, and those of a few thousand
    runs say what all say.
    """
    run = schema.run.c
    wanted = (run.outcome == Outcome.OK, sa.not_(run.warmup), run.conditions.is_not(None))
    total = ledger.rows(sa.select(sa.func.count()).where(*wanted))[0][0]
    every = max(1, total // most)
    query = sa.select(run.visit_id, run.conditions, run.workload)
    rows = ledger.rows(query.where(*wanted, run.id % every == 0).order_by(run.id))
    return [(visit, {**conditions, "workload": name}) for visit, conditions, name in rows]


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


def places_in_time(rows: Iterable[tuple[int, str, bool]]) -> dict[int, TimePlace]:
    """What rows are ordered by, from their keys (ascending), times, and whether they are live.

    Those that were recorded as they happened follow each other by their keys, even if the clock
    was set back meanwhile; others have their stated time.
    """
    places: dict[int, TimePlace] = {}
    latest = ""
    for key, time, live in rows:
        if live:
            latest = max(latest, time)
            places[key] = (latest, key)
        else:
            places[key] = (time, 0)
    return places
