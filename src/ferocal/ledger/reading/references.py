"""References: results from elsewhere, of which there are no runs."""

from __future__ import annotations

from dataclasses import fields

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.records import Reference
from ferocal.ledger.store import Ledger


def read_references(ledger: Ledger) -> list[Reference]:
    """All references; of several for one device, metric and source the latest."""
    c = schema.reference.c
    query = sa.select(*(c[field.name] for field in fields(Reference))).order_by(c.id)
    latest: dict[tuple[str, ...], Reference] = {}
    for row in ledger.rows(query):
        found = Reference(*row)
        latest[found.device, found.workload, found.metric, found.source] = found
    return list(latest.values())
