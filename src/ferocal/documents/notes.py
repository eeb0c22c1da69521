"""Notes, and what is known of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Document, sentences

if TYPE_CHECKING:
    from ferocal.ledger.records import Note


def notes_document(notes: Sequence[tuple[str, Note]]) -> Document:
    """A line for each note: when it was made, on what, its text, and what is known of that."""
    lines = [f"{at[:16]} {note_text(note)}" for at, note in notes]
    return Document("", (sentences(lines or ['no notes yet; add one: ferocal note "no sound"']),))


def note_text(note: Note) -> str:
    """A note with its subject, and when and where that was seen as far as it is known."""
    known = [note.date[:10] if note.date else "", note.source or ""]
    seen = ", ".join(filter(None, known))
    return f"{note.subject}: {note.text}" + (f" ({seen})" if seen else "")
