"""Notes: what numbers do not show."""

from __future__ import annotations

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


def add_note(ledger: Ledger, subject: str, name: str, text: str) -> None:
    """Keep a note on a "study", "configuration", "workload" or "run" of some name."""
    ledger.insert_all(schema.note, [{"subject": subject, "name": name, "text": text}])
