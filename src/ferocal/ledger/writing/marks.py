"""Marks: runs that are not to be used, and the lifting of that."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.errors import UsageError
from ferocal.ledger import schema
from ferocal.ledger.reading.runs import describe_runs, read_excluded, resolve_run_ids
from ferocal.ledger.store import Ledger


def mark_runs(ledger: Ledger, ids: Sequence[str], *, excluded: bool, reason: str) -> list[str]:
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
            schema.mark,
            [{"run_id": key, "excluded": excluded, "reason": reason} for key in distinct],
        )
        return describe_runs(ledger, distinct)
