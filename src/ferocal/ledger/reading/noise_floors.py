"""Noise floors that were imported from other studies."""

from __future__ import annotations

from dataclasses import fields

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.ledger.store import Ledger


def read_noise_floors(ledger: Ledger) -> list[NoiseFloorRecord]:
    """All noise floors in the order in which they were imported."""
    table = schema.noise_floor
    columns = [table.c[field.name] for field in fields(NoiseFloorRecord)]
    return [NoiseFloorRecord(*row) for row in ledger.rows(sa.select(*columns).order_by(table.c.id))]
