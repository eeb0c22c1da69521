"""Claims: what was said before measuring, kept as it was when first seen."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger, now
from ferocal.study.claims import digest_of


def freeze_claims(ledger: Ledger, claims: Mapping[str, Mapping[str, Any]]) -> int:
    """Keep the claims that are new or changed; returns how many these were.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    if not claims:
        return 0
    with ledger.transaction() as connection:
        c = schema.claim.c
        known = {tuple(row) for row in connection.execute(sa.select(c.name, c.digest))}
        read = connection.scalar(sa.select(sa.func.count()).select_from(schema.reading))
        fresh = [
            {"name": name, "digest": digest, "content": dict(content), "before_readings": not read}
            for name, content in claims.items()
            if (name, digest := digest_of(content)) not in known
        ]
        for row in fresh:
            ledger.insert(schema.claim, connection, at=now(), **row)
    return len(fresh)
