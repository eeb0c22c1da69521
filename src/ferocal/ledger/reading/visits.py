"""Visits, and their order in time, whatever the clock of the machine did meanwhile."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ferocal.ledger.reading.sql import ENDED_WELL, parsed
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass

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
    rows = ledger.rows(
        "SELECT id, bench, configuration, round, started_at, state, checks, facts_id, subjects, "
        "remarks, known, name FROM visit ORDER BY id"
    )
    places = read_places(ledger)  # afterwards: visits may be made meanwhile
    return {
        key: VisitRow(
            bench, configuration, number, started_at, state, parsed(checks), facts,
            parsed(subjects), parsed(remarks), bool(known), name, places[key],
        )
        for key, bench, configuration, number, started_at, state, checks, facts, subjects, remarks,
            known, name in rows
    }  # fmt: skip


def read_places(ledger: Ledger) -> dict[int, TimePlace]:
    """By key of a visit what visits are ordered by in time."""
    # It is unknown whether sessions of earlier versions were merged.
    query = (
        "SELECT visit.id, visit.started_at, session.kind = 'measure' AND session.merged IS FALSE "
        "FROM visit JOIN session ON session.id = visit.session_id ORDER BY visit.id"
    )
    return places_in_time(ledger.rows(query))


@dataclass(frozen=True)
class NamedVisit:
    """A visit that people have named; ``started_at`` is "" where unknown."""

    key: int
    round: int | None
    started_at: str


def read_named_visits(ledger: Ledger) -> dict[tuple[str, str, str], NamedVisit]:
    """Visits with a name, by bench, configuration and name; of merged ones the first."""
    rows = ledger.rows(
        "SELECT bench, configuration, name, id, round, started_at FROM visit "
        "WHERE name IS NOT NULL ORDER BY id DESC"
    )
    return {row[:3]: NamedVisit(*row[3:]) for row in rows}


def recorded_facts(ledger: Ledger) -> dict[int, list[dict[str, Any]]]:
    """All distinct sets of facts by key."""
    return {key: parsed(content) for key, content in ledger.rows("SELECT id, content FROM facts")}


def read_conditions(ledger: Ledger, most: int) -> list[tuple[int, dict[str, Any]]]:
    """Visit and conditions of runs that ended well, of every n-th if there are many.

    The workload of the run is among them. Conditions are long texts, and those of a few thousand
    runs say what all say.
    """
    of_runs = f"FROM run WHERE {ENDED_WELL} AND conditions IS NOT NULL"
    every = max(1, ledger.rows(f"SELECT count(*) {of_runs}")[0][0] // most)
    query = f"SELECT visit_id, conditions, workload {of_runs} AND id % ? = 0 ORDER BY id"
    return [
        (visit, {**parsed(conditions), "workload": name})
        for visit, conditions, name in ledger.rows(query, [every])
    ]


def last_levels(ledger: Ledger, bench: str) -> dict[str, str]:
    """The level of each factor that the bench was last switched to, as far as recorded."""
    query = (
        "SELECT factor, level FROM step WHERE bench = ? AND kind IN ('switch', 'hold') "
        "AND state IN ('done', 'continued') ORDER BY id"
    )
    return dict(ledger.rows(query, [bench]))


def was_visited(ledger: Ledger, bench: str) -> bool:
    """Whether any visit to a bench has been recorded."""
    return bool(ledger.rows("SELECT id FROM visit WHERE bench = ? LIMIT 1", [bench]))


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
