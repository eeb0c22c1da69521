"""Noise floors brought in from another study."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.ledger import schema
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.ledger.store import Ledger


def record_noise_floors(ledger: Ledger, floors: Sequence[NoiseFloorRecord]) -> None:
    """Record noise floors from another study, all or none."""
    ledger.insert_all(schema.noise_floor, [dict(vars(floor)) for floor in floors])
