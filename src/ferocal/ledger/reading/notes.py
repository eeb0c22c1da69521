"""Notes that people have added."""

from __future__ import annotations

from dataclasses import fields

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Note
from ferocal.ledger.store import Ledger


def read_notes(ledger: Ledger) -> list[tuple[str, Note]]:
    """All notes in the order in which they were made, each with the time of that."""
    c = schema.note.c
    query = sa.select(c.at, *(c[field.name] for field in fields(Note))).order_by(c.id)
    return [(row[0], Note(*row[1:])) for row in ledger.rows(query)]
