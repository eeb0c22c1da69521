"""What happened to a study, in order of time: sessions, exclusions, corrections, notes."""

from __future__ import annotations

from collections import Counter
from typing import Any

from ferocal.ledger import tables
from ferocal.ledger.reading.runs import ID_LENGTH
from ferocal.ledger.reading.sql import RUNS, RUNS_OF_SESSIONS, of_runs, parsed
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass


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
    counts = [
        dict(ledger.rows(f"SELECT session_id, count(*) FROM {rows} GROUP BY session_id"))
        for rows in (RUNS, of_runs(tables.READING))
    ]
    visits: Counter[int] = Counter()
    aside: dict[int, list[tuple[str, str]]] = {}
    states = "SELECT session_id, configuration, state, checks FROM visit ORDER BY id"
    for key, name, state, checks in ledger.rows(states):
        visits[key] += 1
        if state != "active":
            aside.setdefault(key, []).append((name, _why(parsed(checks))))
    query = (
        "SELECT id, uid, started_at, kind, operator, version, source, bench, study_file, "
        "imported_as FROM session ORDER BY started_at, id"
    )
    return [
        SessionRow(
            uid[:ID_LENGTH], at, kind, operator, version, source, bench, text, parsed(imported),
            visits[key], counts[0].get(key, 0), counts[1].get(key, 0), tuple(aside.get(key, ())),
        )
        for key, uid, at, kind, operator, version, source, bench, text, imported
        in ledger.rows(query)
    ]  # fmt: skip


def _why(checks: list[dict[str, Any]]) -> str:
    """Which check did not hold, and what it saw."""
    failed = next((check for check in checks if not check["holds"]), None)
    if failed is None:
        return "a check did not hold"
    return f"{failed['level']}: expected {failed['expected']}, seen {failed['seen']}"


def read_changes(ledger: Ledger) -> list[ChangeRow]:
    """Exclusions, restorations and corrections; runs marked together are one."""
    query = (
        "SELECT mark.at, mark.excluded, mark.reason, run.uid FROM mark "
        "JOIN run ON run.id = mark.run_id ORDER BY mark.id"
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
    query = (
        "SELECT correction.at, run.uid, metric.workload, metric.name, metric.unit, reading.value, "
        "correction.value, correction.reason, correction.run_id, correction.metric_id "
        f"FROM {of_runs(tables.CORRECTION)} JOIN reading ON reading.run_id = correction.run_id "
        "AND reading.metric_id = correction.metric_id ORDER BY correction.at, correction.id"
    )
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

    known = [row for row in ledger.rows("SELECT id, uid FROM session") if row[1].startswith(text)]
    if len(known) != 1:
        many = f"is the beginning of {len(known)} ids" if known else "is not the id of an import"
        raise UsageError(f'"{text}" {many}; nothing was changed (ids: ferocal history)')
    query = f"SELECT run.uid FROM {RUNS} WHERE visit.session_id = ? ORDER BY run.id"
    rows = ledger.rows(query, [known[0][0]])
    return known[0][1][:ID_LENGTH], [uid for (uid,) in rows]


def session_of_run(ledger: Ledger, text: str) -> str:
    """The id of the session that brought the run whose id begins with a text."""
    query = f"SELECT session.uid FROM {RUNS_OF_SESSIONS} WHERE run.uid LIKE ? || '%' LIMIT 1"
    rows = ledger.rows(query, [text])
    return str(rows[0][0])[:ID_LENGTH] if rows else ""
