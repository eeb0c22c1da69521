"""Notes that people have added."""

from __future__ import annotations

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


def read_notes(ledger: Ledger) -> list[tuple[str, str, str, str]]:
    """All notes in order: time, subject, name, text."""
    c = schema.note.c
    query = sa.select(c.at, c.subject, c.name, c.text).order_by(c.id)
    return [tuple(row) for row in ledger.rows(query)]
