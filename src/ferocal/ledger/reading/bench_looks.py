"""Looks at the noise of a bench."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


class BenchLook(NamedTuple):
    """What a look at the noise of a bench has shown, and when."""

    bench: str
    at: str
    figures: Mapping[str, Any]


def read_looks_at_benches(ledger: Ledger) -> list[BenchLook]:
    """The latest look at every bench."""
    c = schema.bench_look.c
    rows = ledger.rows(sa.select(c.bench, c.at, c.figures).order_by(c.at, c.id))
    return list({row[0]: BenchLook(*row) for row in rows}.values())
