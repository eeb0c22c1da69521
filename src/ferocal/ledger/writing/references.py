"""Keeping references."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.ledger import schema
from ferocal.ledger.records import Reference
from ferocal.ledger.store import Ledger


def add_references(ledger: Ledger, references: Sequence[Reference]) -> None:
    """Keep references, all or none."""
    ledger.insert_all(schema.reference, [dict(vars(reference)) for reference in references])
