"""Notes as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ferocal.ledger.records import Note


def note_lines(notes: Sequence[tuple[str, Note]]) -> list[str]:
    """A line for each note: when it was made, on what, its text, and what is known of that."""
    return [f"{at[:16]} {note_text(note)}" for at, note in notes]


def note_text(note: Note) -> str:
    """A note with its subject, and when and where that was seen if somebody said."""
    known = [note.date[:10] if note.date else "", note.source or ""]
    seen = ", ".join(filter(None, known))
    return f"{note.subject}: {note.text}" + (f" ({seen})" if seen else "")
