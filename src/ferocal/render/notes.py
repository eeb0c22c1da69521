"""Notes as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

Note = tuple[str, str, str, str]


def note_lines(notes: Sequence[Note]) -> list[str]:
    """A line for each note: time, subject, text."""
    return [
        f"{at[:16]} {subject} {name}".rstrip() + f": {text}" for at, subject, name, text in notes
    ]


def notes_object(notes: Sequence[Note]) -> dict[str, Any]:
    """The object that `ferocal note --json` prints."""
    keys = ("at", "subject", "name", "text")
    return {"notes": [dict(zip(keys, note, strict=True)) for note in notes]}
