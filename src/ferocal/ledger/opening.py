"""Opening a ledger to read it: its version, and whether it is as it was written."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from ferocal.errors import LedgerError
from ferocal.ledger import tables
from ferocal.ledger.refusing import check, version_of
from ferocal.ledger.store import STORE_ERRORS, Ledger, cause
from ferocal.terms.files import scratch_directory

LEDGER_FILE = "ledger.sqlite"


@contextlib.contextmanager
def read_ledger(directory: Path, *, checked: bool = True) -> Iterator[Ledger]:
    """Open the ledger of a study for reading: all queries see it as it is at the first of them.

    One of an earlier version stays as it is; what is read is a copy of the present version.

    Raises
    ------
    LedgerError
        When there is none, when it cannot be read or is damaged, or when it was written by a newer
        Ferocal.
    """
    path = directory / LEDGER_FILE
    refuse_missing(path)
    with contextlib.ExitStack() as stack:
        ledger = stack.enter_context(Ledger(path))
        with ledger.driver() as driver:
            version = version_of(driver, path)
        if version != tables.SCHEMA_VERSION:
            from ferocal.ledger.upgrading import copy_ledger

            scratch = stack.enter_context(scratch_directory()) / LEDGER_FILE
            with explained(path):
                copy_ledger(path, scratch)
            ledger = stack.enter_context(Ledger(path, scratch))
        stack.enter_context(ledger.snapshot())
        if checked:
            # Within the snapshot: what is read is what was checked.
            with ledger.driver() as driver:
                check(driver, path, is_copy=version != tables.SCHEMA_VERSION)
        yield ledger


def refuse_missing(path: Path) -> None:
    """Refuse to read what was never recorded."""
    if not path.exists():
        raise LedgerError(f"{path}: nothing recorded yet; take readings with `ferocal measure`")


@contextlib.contextmanager
def explained(path: Path) -> Iterator[None]:
    """Errors of the store, as errors of this ledger."""
    try:
        yield
    except STORE_ERRORS as error:
        verb = "cannot be opened" if path.exists() else "cannot be created"
        raise LedgerError(f"{path}: {verb}: {cause(error)}") from error
