"""Sessions: what was planned, looked at and asked, how long things took, what was loaded."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.reading.visits import places_in_time
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger


def read_planned_rounds(ledger: Ledger) -> dict[str, int]:
    """By bench, the number of rounds with which measuring began there."""
    c = schema.session.c
    query = sa.select(c.id, c.bench, c.rounds).where(c.rounds > 0, c.bench.is_not(None))
    rows = _in_order(ledger, ledger.rows(query), reverse=True)
    return {bench: rounds for _, bench, rounds in rows}


def _in_order(ledger: Ledger, rows: list[Any], *, reverse: bool = False) -> list[Any]:
    """Rows that begin with the key of a session, in the order of time."""
    c = schema.session.c
    query = sa.select(c.id, c.started_at, sa.func.coalesce(c.merged.is_(False), False))
    places = places_in_time(tuple(row) for row in ledger.rows(query.order_by(c.id)))
    return sorted(rows, key=lambda row: places[row[0]], reverse=reverse)


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


def read_look_limits(ledger: Ledger) -> dict[str, int]:
    """By bench, the last round of the sequential study there, looked at yet or not."""
    c, look = schema.session.c, schema.look.c
    sessions = sa.select(c.bench, c.rounds).where(c.decide, c.bench.is_not(None)).order_by(c.id)
    looks = sa.select(look.bench, look.limit).where(look.bench.is_not(None)).order_by(look.id)
    return dict(tuple(row) for query in (sessions, looks) for row in ledger.rows(query))


def read_looks(ledger: Ledger) -> dict[str, tuple[int, ...]]:
    """By bench, the rounds after which the results were looked at."""
    c = schema.look.c
    taken: dict[str, list[int]] = {}
    for bench, number in ledger.rows(sa.select(c.bench, c.round).where(c.bench.is_not(None))):
        taken.setdefault(bench, []).append(number)
    return {bench: tuple(sorted(set(rounds))) for bench, rounds in taken.items()}


def read_kinds(ledger: Ledger) -> dict[str, frozenset[str]]:
    """By bench, how its visits came into the ledger: "measure", "enter", "load"."""
    session, visit = schema.session.c, schema.visit.c
    query = sa.select(visit.bench, session.kind).join_from(schema.visit, schema.session).distinct()
    kinds: dict[str, set[str]] = {}
    for bench, kind in ledger.rows(query):
        kinds.setdefault(bench, set()).add(kind)
    return {bench: frozenset(found) for bench, found in kinds.items()}


def read_kinds_of_runs(ledger: Ledger) -> Counter[str]:
    """How many runs that ended well came by each kind of session, warm-ups left out."""
    session, run = schema.session.c, schema.run.c
    query = (
        sa.select(session.kind, sa.func.count())
        .join_from(schema.run, schema.visit)
        .join(schema.session)
        .where(run.outcome == Outcome.OK, sa.not_(run.warmup))
        .group_by(session.kind)
    )
    return Counter(dict(tuple(row) for row in ledger.rows(query)))


@dataclass(frozen=True)
class Snapshot:
    """The study file with which a session was measured, and what was measured in it.

    ``configurations`` are names with their levels at that time.
    """

    started_at: str
    text: str
    configurations: tuple[tuple[str, dict[str, str]], ...]
    workloads: tuple[str, ...]


def read_snapshots(ledger: Ledger) -> list[Snapshot]:
    """The snapshots of all sessions in which runs ended well, in the order of time."""
    session, visit, run = schema.session.c, schema.visit.c, schema.run.c
    used = (
        sa.select(visit.session_id, visit.configuration, visit.levels, run.workload)
        .join_from(schema.visit, schema.run)
        .where(run.outcome == Outcome.OK, visit.state == "active")
        .group_by(visit.session_id, visit.configuration, run.workload)
    )
    by_session: dict[int, tuple[dict[str, dict[str, str]], dict[str, None]]] = {}
    for key, name, levels, workload in ledger.rows(used):
        configurations, workloads = by_session.setdefault(key, ({}, {}))
        configurations[name], workloads[workload] = levels, None
    query = sa.select(session.id, session.started_at, session.study_file)
    rows = ledger.rows(query.where(session.study_file.is_not(None)))
    return [
        Snapshot(at, text, tuple(by_session[key][0].items()), tuple(by_session[key][1]))
        for key, at, text in _in_order(ledger, rows)
        if key in by_session
    ]


@dataclass(frozen=True)
class SessionCriteria:
    """What judged the readings at the time of a session; see `study.criteria`."""

    started_at: str
    criteria: dict[str, Any]


def read_criteria(ledger: Ledger) -> list[SessionCriteria]:
    """The criteria of all sessions that made visits and kept criteria, in the order of time."""
    c = schema.session.c
    has_visits = sa.select(schema.visit.c.id).where(schema.visit.c.session_id == c.id).exists()
    query = sa.select(c.id, c.started_at, c.criteria).where(has_visits)
    rows = _in_order(ledger, ledger.rows(query))
    return [SessionCriteria(*row[1:]) for row in rows if row[2] is not None]


def find_load(ledger: Ledger, digest: str) -> tuple[str, str] | None:
    """When and from where a file of this digest was loaded before, if it was."""
    c = schema.session.c
    query = sa.select(c.started_at, c.source).where(c.digest.contains(digest)).limit(1)
    rows = ledger.rows(query)
    return (rows[0][0], rows[0][1]) if rows else None
