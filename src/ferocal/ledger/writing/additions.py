"""Rows that are only ever added: notes, references, noise floors, looks, marks, claims."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ferocal.errors import UsageError
from ferocal.ledger import tables
from ferocal.ledger.engines import driver_of
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.history import runs_of_session
from ferocal.ledger.reading.runs import describe_runs, read_excluded, resolve_run_ids
from ferocal.ledger.records import NoiseFloorRecord, Note, Reference, Value
from ferocal.ledger.writing.store import WritableLedger
from ferocal.study.claims import digest_of
from ferocal.terms.times import now


def add_note(ledger: WritableLedger, note: Note) -> None:
    """Record a note."""
    ledger.insert_all(tables.NOTE, [dict(vars(note))])


def add_references(ledger: WritableLedger, references: Sequence[Reference]) -> None:
    """Record references, all or none."""
    ledger.insert_all(tables.REFERENCE, [dict(vars(reference)) for reference in references])


def record_noise_floors(ledger: WritableLedger, floors: Sequence[NoiseFloorRecord]) -> None:
    """Record noise floors from another study, all or none."""
    ledger.insert_all(tables.NOISE_FLOOR, [dict(vars(floor)) for floor in floors])


def record_look(ledger: WritableLedger, bench: str, figures: Mapping[str, Any]) -> None:
    """Record what a look at a bench has shown."""
    ledger.insert(tables.BENCH_LOOK, at=now(), bench=bench, figures=dict(figures))


def mark_runs(
    ledger: WritableLedger, ids: Sequence[str], *, excluded: bool, reason: str
) -> list[str]:
    """Exclude runs, or lift their exclusion; returns the runs in words.

    Raises
    ------
    UsageError
        When a run is unknown, or is marked so already; then nothing is marked.
    """
    # Nobody else marks between looking at the marks and adding to them.
    with ledger.together():
        keys = resolve_run_ids(ledger, ids)
        now_excluded = read_excluded(ledger)
        idle = [
            text for text, key in zip(ids, keys, strict=True) if (key in now_excluded) == excluded
        ]
        if idle:
            state = "excluded already" if excluded else "not excluded"
            raise UsageError(f"{', '.join(idle)}: {state}; nothing was marked")
        distinct = list(dict.fromkeys(keys))
        ledger.insert_all(
            tables.MARK,
            [{"run_id": key, "excluded": excluded, "reason": reason} for key in distinct],
        )
        return describe_runs(ledger, distinct)


def mark_import(
    ledger: WritableLedger, text: str, *, excluded: bool, reason: str
) -> tuple[str, int]:
    """Exclude all runs of an import, or lift their exclusion; its id, and how many these are.

    Raises
    ------
    UsageError
        When there is no such import, or all of its runs are marked so already.
    """
    with ledger.together():
        name, uids = runs_of_session(ledger, text)
        keys = dict(zip(uids, resolve_run_ids(ledger, uids), strict=True)) if uids else {}
        now_excluded = read_excluded(ledger)
        wanted = [key for key in keys.values() if (key in now_excluded) != excluded]
        if not wanted:
            state = "excluded already" if excluded else "not excluded"
            raise UsageError(f"import {name}: all of its runs are {state}; nothing was marked")
        rows = [{"run_id": key, "excluded": excluded, "reason": reason} for key in wanted]
        ledger.insert_all(tables.MARK, rows)
    return name, len(wanted)


def correct_reading(ledger: WritableLedger, run_id: int, value: Value, reason: str) -> float:
    """Correct a reading of a run; returns what it was before, as corrected until now.

    Raises
    ------
    UsageError
        When the run has no reading of that metric; the message lists those that it has.
    LedgerError
        When the ledger cannot be written.
    """
    query = (
        "SELECT metric.name, metric.id, reading.value FROM reading "
        "JOIN metric ON metric.id = reading.metric_id WHERE reading.run_id = ?"
    )
    with ledger.together():
        known = {name: (key, old) for name, key, old in ledger.rows(query, [run_id])}
        if value.metric not in known:
            names = ", ".join(known) or "none"
            raise UsageError(
                f'the run has no reading of "{value.metric}"; it has {names}. Nothing was changed'
            )
        key, old = known[value.metric]
        earlier = read_corrections(ledger).get((run_id, key))
        if earlier is not None:
            old = earlier.value
        row = {
            "run_id": run_id,
            "metric_id": key,
            "value": value.value,
            "low": value.low,
            "high": value.high,
            "bound": value.bound,
            "reason": reason,
        }
        ledger.insert_all(tables.CORRECTION, [row])
    return float(old)


def freeze_claims(ledger: WritableLedger, claims: Mapping[str, Mapping[str, Any]]) -> int:
    """Keep the claims that are new or changed; returns how many these were.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    if not _fresh(claims, set(ledger.rows(_KNOWN))):
        return 0
    with ledger.transaction() as connection:
        driver = driver_of(connection)
        fresh = _fresh(claims, set(driver.execute(_KNOWN)))
        (read,) = driver.execute("SELECT count(*) FROM reading").fetchone()
        for name, digest, content in fresh:
            values = {"name": name, "digest": digest, "content": content}
            ledger.insert(tables.CLAIM, connection, at=now(), before_readings=not read, **values)
    return len(fresh)


_KNOWN = "SELECT name, digest FROM claim"


def _fresh(
    claims: Mapping[str, Mapping[str, Any]], known: set[tuple[Any, ...]]
) -> list[tuple[str, str, dict[str, Any]]]:
    """Name, digest and content of claims that are not kept as they are."""
    digests = {name: digest_of(content) for name, content in claims.items()}
    return [
        (name, digest, dict(claims[name]))
        for name, digest in digests.items()
        if (name, digest) not in known
    ]
