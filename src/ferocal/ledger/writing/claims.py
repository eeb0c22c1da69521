"""Claims: what was said before measuring, kept as it was when first seen."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger
from ferocal.study.claims import digest_of
from ferocal.terms.times import now


def freeze_claims(ledger: Ledger, claims: Mapping[str, Mapping[str, Any]]) -> int:
    """Keep the claims that are new or changed; returns how many these were.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    if not _fresh(claims, {tuple(row) for row in ledger.rows(_KNOWN)}):
        return 0
    with ledger.transaction() as connection:
        fresh = _fresh(claims, {tuple(row) for row in connection.execute(_KNOWN)})
        read = connection.scalar(sa.select(sa.func.count()).select_from(schema.reading))
        for name, digest, content in fresh:
            values = {"name": name, "digest": digest, "content": content}
            ledger.insert(schema.claim, connection, at=now(), before_readings=not read, **values)
    return len(fresh)


_KNOWN = sa.select(schema.claim.c.name, schema.claim.c.digest)


def _fresh(
    claims: Mapping[str, Mapping[str, Any]], known: set[tuple[Any, ...]]
) -> list[tuple[str, str, dict[str, Any]]]:
    """Name, digest and content of claims that are not kept as they are."""
    digests = {name: digest_of(content) for name, content in claims.items()}
    return [
        (name, digest, dict(claims[name]))
        for name, digest in digests.items()
        if (name, digest) not in known
    ]
