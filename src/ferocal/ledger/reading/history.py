"""What happened to a study, in order of time: sessions, exclusions, corrections, notes."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.reading.runs import ID_LENGTH
from ferocal.ledger.store import Ledger


@dataclass(frozen=True)
class SessionRow:
    """A call of `measure`, `enter` or `load`, with what it brought.

    ``set_aside`` has the visits whose checks failed, each with why; ``study_file`` is the text of
    that time, None for sessions of the first versions.
    """

    id: str
    at: str
    kind: str
    operator: str | None
    version: str
    source: str | None
    bench: str | None
    study_file: str | None
    imported_as: dict[str, Any] | None
    visits: int
    runs: int
    readings: int
    set_aside: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class ChangeRow:
    """Something done to runs: ``kind`` is "exclude", "restore" or "correct", ``what`` says to what.

    For a correction ``before`` and ``now`` are the values.
    """

    at: str
    kind: str
    runs: tuple[str, ...]
    reason: str
    what: str = ""
    before: float | None = None
    now: float | None = None


def read_sessions(ledger: Ledger) -> list[SessionRow]:
    """All sessions, in the order in which they were recorded here."""
    c, visit = schema.session.c, schema.visit.c
    runs = (
        sa.select(visit.session_id, sa.func.count())
        .join_from(schema.run, schema.visit)
        .group_by(visit.session_id)
    )
    readings = (
        sa.select(visit.session_id, sa.func.count())
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .group_by(visit.session_id)
    )
    counts = [dict(tuple(row) for row in ledger.rows(query)) for query in (runs, readings)]
    visits: Counter[int] = Counter()
    aside: dict[int, list[tuple[str, str]]] = {}
    states = sa.select(visit.session_id, visit.configuration, visit.state, visit.checks)
    for key, name, state, checks in ledger.rows(states.order_by(visit.id)):
        visits[key] += 1
        if state != "active":
            aside.setdefault(key, []).append((name, _why(checks)))
    query = sa.select(
        c.id, c.uid, c.started_at, c.kind, c.operator, c.version, c.source, c.bench, c.study_file,
        c.imported_as,
    )  # fmt: skip
    return [
        SessionRow(
            uid[:ID_LENGTH], at, kind, operator, version, source, bench, text, imported,
            visits[key], counts[0].get(key, 0), counts[1].get(key, 0), tuple(aside.get(key, ())),
        )
        for key, uid, at, kind, operator, version, source, bench, text, imported in ledger.rows(
            query.order_by(c.started_at, c.id)
        )
    ]  # fmt: skip


def _why(checks: list[dict[str, Any]]) -> str:
    """Which check did not hold, and what it saw."""
    failed = next((check for check in checks if not check["holds"]), None)
    if failed is None:
        return "a check did not hold"
    return f"{failed['level']}: expected {failed['expected']}, seen {failed['seen']}"


def read_changes(ledger: Ledger) -> list[ChangeRow]:
    """Exclusions, restorations and corrections; runs marked together are one."""
    mark, run = schema.mark.c, schema.run.c
    query = (
        sa.select(mark.at, mark.excluded, mark.reason, run.uid)
        .join_from(schema.mark, schema.run)
        .order_by(mark.id)
    )
    groups: dict[tuple[str, bool, str], list[tuple[str, str]]] = {}
    for at, excluded, reason, uid in ledger.rows(query):
        groups.setdefault((at[:19], bool(excluded), reason), []).append((at, uid[:ID_LENGTH]))
    found = [
        ChangeRow(
            runs[0][0], "exclude" if excluded else "restore", tuple(uid for _, uid in runs), reason
        )
        for (_, excluded, reason), runs in groups.items()
    ]
    return found + _read_corrections(ledger)


def _read_corrections(ledger: Ledger) -> list[ChangeRow]:
    c, run, metric, reading = (
        table.c for table in (schema.correction, schema.run, schema.metric, schema.reading)
    )
    query = (
        sa.select(c.at, run.uid, metric.workload, metric.name, metric.unit, reading.value, c.value,
                  c.reason, c.run_id, c.metric_id)
        .join_from(schema.correction, schema.run)
        .join(schema.metric)
        .join(schema.reading, sa.and_(reading.run_id == c.run_id, reading.metric_id == c.metric_id))
        .order_by(c.at, c.id)
    )  # fmt: skip
    last: dict[tuple[int, int], float] = {}
    found = []
    for at, uid, workload, name, unit, first, now, reason, *key in ledger.rows(query):
        before = last.get((key[0], key[1]), first)
        last[key[0], key[1]] = now
        what = f"{workload} {name}, {unit}"
        found.append(ChangeRow(at, "correct", (uid[:ID_LENGTH],), reason, what, before, now))
    return found


def runs_of_session(ledger: Ledger, text: str) -> tuple[str, list[str]]:
    """The id of the session that begins with a text, and the ids of its runs.

    Raises
    ------
    UsageError
        When there is none, or several.
    """
    from ferocal.errors import UsageError

    c, visit, run = schema.session.c, schema.visit.c, schema.run.c
    known = [row for row in ledger.rows(sa.select(c.id, c.uid)) if row[1].startswith(text)]
    if len(known) != 1:
        many = f"is the beginning of {len(known)} ids" if known else "is not the id of an import"
        raise UsageError(f'"{text}" {many}; nothing was changed (ids: ferocal history)')
    query = sa.select(run.uid).join_from(schema.run, schema.visit)
    rows = ledger.rows(query.where(visit.session_id == known[0][0]).order_by(run.id))
    return known[0][1][:ID_LENGTH], [uid for (uid,) in rows]


def session_of_run(ledger: Ledger, text: str) -> str:
    """The id of the session that brought the run whose id begins with a text."""
    session, run = schema.session.c, schema.run.c
    query = (
        sa.select(session.uid)
        .join_from(schema.run, schema.visit)
        .join(schema.session)
        .where(run.uid.startswith(text))
    )
    rows = ledger.rows(query.limit(1))
    return str(rows[0][0])[:ID_LENGTH] if rows else ""
