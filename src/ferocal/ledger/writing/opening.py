"""Opening a ledger to write it."""

from __future__ import annotations

import contextlib
from pathlib import Path

from ferocal.ledger.opening import LEDGER_FILE, explained, refuse_missing
from ferocal.ledger.refusing import check
from ferocal.ledger.upgrading import bring_up_to_date, create_ledger
from ferocal.ledger.writing.store import WritableLedger
from ferocal.ledger.writing.watch import Watch
from ferocal.study.load import STUDY_FILE
from ferocal.study.masking import NOTHING_PRIVATE, Mask
from ferocal.terms.files import clear_left


def open_ledger(
    directory: Path,
    *,
    create: bool = False,
    checked: bool = True,
    mask: Mask = NOTHING_PRIVATE,
) -> WritableLedger:
    """Open the ledger of a study for writing; it is checked unless it is to be repaired.

    One of an earlier version is brought to the present one, and what it was is kept beside it.
    What is private by the ``mask`` is not recorded.

    Raises
    ------
    LedgerError
        When there is none and ``create`` is false, when it cannot be read or is damaged, or
        when it was written by a newer Ferocal.
    """
    path = directory / LEDGER_FILE
    with contextlib.suppress(OSError):  # what cannot be listed is told below
        clear_left(directory, f".{STUDY_FILE}-")
    if not create:
        refuse_missing(path)
    ledger = WritableLedger(path, mask)
    with explained(path):
        if create:
            create_ledger(path)
        bring_up_to_date(path, path, keep=True)
        if checked:
            with ledger.driver() as driver:
                check(driver, path)
                ledger.watch = Watch(driver)
    return ledger
