"""Looks at the noise of a bench."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger
from ferocal.terms.times import now


def record_look(ledger: Ledger, bench: str, figures: Mapping[str, Any]) -> None:
    """Keep what a look at a bench has shown."""
    ledger.insert(schema.bench_look, at=now(), bench=bench, figures=dict(figures))
