"""Keeping the claims of a study as they stand now."""

from __future__ import annotations

from ferocal.errors import LedgerError, UsageError
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.writing.claims import freeze_claims
from ferocal.study.claims import claims_of
from ferocal.study.load import Study


def keep_claims(study: Study) -> str | None:
    """Keep claims that are new or changed; why that cannot be done, None where it was.

    A study without a ledger gets one: a claim is to be kept before anything is measured.

    Raises
    ------
    UsageError
        When the study file has no claim.
    """
    if not study.file.claim:
        raise UsageError("study.toml contains no claims; add a table [claim.NAME] to state one")
    try:
        with open_ledger(study.directory, create=True, mask=study.mask) as ledger:
            freeze_claims(ledger, claims_of(study))
    except LedgerError as error:
        return str(error)
    return None
