"""What is kept beforehand: claims as they stand now, noise floors of an earlier study."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.errors import LedgerError, UsageError
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.ledger.writing.additions import record_noise_floors
from ferocal.ledger.writing.claims import freeze_claims
from ferocal.study.claims import claims_of
from ferocal.study.load import Study

if TYPE_CHECKING:
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


def bring_noise_floors(study: Study, floors: Sequence[NoiseFloorRecord]) -> None:
    """Record noise floors in the ledger of a study, all or none.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    with open_ledger(study.directory, create=True, mask=study.mask) as ledger:
        record_noise_floors(ledger, floors)
