"""Claims as they were when they were first seen."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


@dataclass(frozen=True)
class FrozenClaim:
    """A claim as the study file had it; ``before_readings`` says that nothing was read by then."""

    name: str
    at: str
    digest: str
    content: Mapping[str, Any]
    before_readings: bool


def read_claims(ledger: Ledger) -> tuple[FrozenClaim, ...]:
    """All claims that were ever seen, each change of one anew, in the order of time."""
    c = schema.claim.c
    query = sa.select(c.name, c.at, c.digest, c.content, c.before_readings).order_by(c.at, c.id)
    return tuple(FrozenClaim(*row) for row in ledger.rows(query))
