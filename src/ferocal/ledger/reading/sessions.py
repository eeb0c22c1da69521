"""Sessions: what was planned, looked at and asked, how long things took, what was loaded."""

from __future__ import annotations

from collections import Counter
from typing import Any

from ferocal.ledger.reading.sql import (
    ENDED_WELL,
    RUNS,
    RUNS_OF_SESSIONS,
    parsed,
)
from ferocal.ledger.reading.visits import places_in_time
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass


def read_planned_rounds(ledger: Ledger) -> dict[str, int]:
    """By bench, the number of rounds with which measuring began there."""
    query = "SELECT id, bench, rounds FROM session WHERE rounds > 0 AND bench IS NOT NULL"
    rows = _in_order(ledger, ledger.rows(query), reverse=True)
    return {bench: rounds for _, bench, rounds in rows}


def _in_order(ledger: Ledger, rows: list[Any], *, reverse: bool = False) -> list[Any]:
    """Rows that begin with the key of a session, in the order of time."""
    query = "SELECT id, started_at, merged IS FALSE FROM session ORDER BY id"
    places = places_in_time(ledger.rows(query))
    return sorted(rows, key=lambda row: places[row[0]], reverse=reverse)


@dataclass(frozen=True)
class Durations:
    """Durations seen so far, in seconds: of runs by workload, and of switches."""

    runs: dict[str, float]
    switching: float | None


def read_durations(ledger: Ledger, bench: str) -> Durations:
    """Mean durations of runs that ended on a bench, and of switches that took place."""
    runs = (
        f"SELECT run.workload, avg(run.wall) FROM {RUNS} "
        "WHERE run.wall IS NOT NULL AND visit.bench = ? GROUP BY run.workload"
    )
    switching = "SELECT avg(switching) FROM visit WHERE switching > 0 AND bench = ?"
    return Durations(dict(ledger.rows(runs, [bench])), ledger.rows(switching, [bench])[0][0])


def read_look_limits(ledger: Ledger) -> dict[str, int]:
    """By bench, the last round of the sequential study there, looked at yet or not."""
    sessions = "SELECT bench, rounds FROM session WHERE decide AND bench IS NOT NULL ORDER BY id"
    looks = 'SELECT bench, "limit" FROM look WHERE bench IS NOT NULL ORDER BY id'
    return dict(row for query in (sessions, looks) for row in ledger.rows(query))


def read_looks(ledger: Ledger) -> dict[str, tuple[int, ...]]:
    """By bench, the rounds after which the results were looked at."""
    taken: dict[str, list[int]] = {}
    for bench, number in ledger.rows("SELECT bench, round FROM look WHERE bench IS NOT NULL"):
        taken.setdefault(bench, []).append(number)
    return {bench: tuple(sorted(set(rounds))) for bench, rounds in taken.items()}


def read_kinds(ledger: Ledger) -> dict[str, frozenset[str]]:
    """By bench, how its visits came into the ledger: "measure", "enter", "load"."""
    query = (
        "SELECT DISTINCT visit.bench, session.kind FROM visit "
        "JOIN session ON session.id = visit.session_id"
    )
    kinds: dict[str, set[str]] = {}
    for bench, kind in ledger.rows(query):
        kinds.setdefault(bench, set()).add(kind)
    return {bench: frozenset(found) for bench, found in kinds.items()}


def read_kinds_of_runs(ledger: Ledger) -> Counter[str]:
    """How many runs that ended well came by each kind of session, warm-ups left out."""
    query = (
        f"SELECT session.kind, count(*) FROM {RUNS_OF_SESSIONS} "
        f"WHERE {ENDED_WELL} GROUP BY session.kind"
    )
    return Counter(dict(ledger.rows(query)))


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
    rows = ledger.rows(
        "SELECT id, started_at, study_file FROM session WHERE study_file IS NOT NULL"
    )
    if not rows:
        return []
    used = (
        "SELECT visit.session_id, visit.configuration, visit.levels, ended.workload FROM visit "
        "JOIN (SELECT DISTINCT visit_id, workload FROM run WHERE outcome = ?) AS ended "
        "ON ended.visit_id = visit.id WHERE visit.state = 'active' "
        "ORDER BY visit.session_id, visit.configuration, ended.workload"
    )
    by_session: dict[int, tuple[dict[str, str], dict[str, None]]] = {}
    for key, name, levels, workload in ledger.rows(used, [Outcome.OK]):
        configurations, workloads = by_session.setdefault(key, ({}, {}))
        configurations[name], workloads[workload] = levels, None
    return [
        Snapshot(
            at,
            text,
            tuple((name, parsed(levels)) for name, levels in by_session[key][0].items()),
            tuple(by_session[key][1]),
        )
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
    query = (
        "SELECT id, started_at, criteria FROM session WHERE criteria IS NOT NULL "
        "AND id IN (SELECT session_id FROM visit) ORDER BY id"
    )
    rows = _in_order(ledger, ledger.rows(query))
    return [
        SessionCriteria(at, criteria)
        for _, at, text in rows
        if (criteria := parsed(text)) is not None
    ]


def find_load(ledger: Ledger, digest: str) -> tuple[str, str] | None:
    """When and from where a file of this digest was loaded before, if it was."""
    query = "SELECT started_at, source FROM session WHERE digest LIKE '%' || ? || '%' LIMIT 1"
    rows = ledger.rows(query, [digest])
    return (rows[0][0], rows[0][1]) if rows else None
