"""Notes: what numbers do not show."""

from __future__ import annotations

from ferocal.ledger import schema
from ferocal.ledger.records import Note
from ferocal.ledger.store import Ledger


def add_note(ledger: Ledger, note: Note) -> None:
    """Keep a note."""
    ledger.insert_all(schema.note, [dict(vars(note))])
