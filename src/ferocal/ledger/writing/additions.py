"""Rows that are only ever added: notes, references, noise floors, looks at a bench."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ferocal.ledger import schema
from ferocal.ledger.records import NoiseFloorRecord, Note, Reference
from ferocal.ledger.store import Ledger
from ferocal.terms.times import now


def add_note(ledger: Ledger, note: Note) -> None:
    """Record a note."""
    ledger.insert_all(schema.note, [dict(vars(note))])


def add_references(ledger: Ledger, references: Sequence[Reference]) -> None:
    """Record references, all or none."""
    ledger.insert_all(schema.reference, [dict(vars(reference)) for reference in references])


def record_noise_floors(ledger: Ledger, floors: Sequence[NoiseFloorRecord]) -> None:
    """Record noise floors from another study, all or none."""
    ledger.insert_all(schema.noise_floor, [dict(vars(floor)) for floor in floors])


def record_look(ledger: Ledger, bench: str, figures: Mapping[str, Any]) -> None:
    """Record what a look at a bench has shown."""
    ledger.insert(schema.bench_look, at=now(), bench=bench, figures=dict(figures))
