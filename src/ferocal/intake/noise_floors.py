"""Noise floors imported from an earlier study."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.ledger.opening import open_ledger
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.ledger.writing.additions import record_noise_floors

if TYPE_CHECKING:
    from ferocal.study.load import Study


def bring_noise_floors(study: Study, floors: Sequence[NoiseFloorRecord]) -> None:
    """Record noise floors in the ledger of a study, all or none.

    Raises
    ------
    LedgerError
        When the ledger cannot be written.
    """
    with open_ledger(study.directory, create=True, mask=study.mask) as ledger:
        record_noise_floors(ledger, floors)
