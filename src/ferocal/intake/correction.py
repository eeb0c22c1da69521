"""Correcting a reading that was wrong."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ferocal.errors import UsageError
from ferocal.intake.typed import TypedError, TypedReading, parse_typed
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.reading.runs import ID_LENGTH, resolve_run_ids, workload_of_run
from ferocal.ledger.records import Value
from ferocal.ledger.writing.corrections import correct_reading

if TYPE_CHECKING:
    from ferocal.study.load import Study


@dataclass(frozen=True)
class Corrected:
    """A reading that was corrected: of which run, what it was and is now, in which unit."""

    run: str
    before: float
    now: TypedReading
    unit: str


def correct(study: Study, run: str, metric: str, text: str, reason: str) -> Corrected:
    """Correct a reading; ``text`` is what was typed for it.

    Raises
    ------
    UsageError
        When the run or the metric is unknown, or the value not understood.
    LedgerError
        When the ledger is missing, or cannot be written.
    """
    with open_ledger(study.directory, mask=study.mask) as ledger:
        (key,) = resolve_run_ids(ledger, [run])
        uid, workload = workload_of_run(ledger, key)
        declared = {(w, n): m for w, n, m in study.read_metrics()}.get((workload, metric))
        if declared is None:
            raise UsageError(f'{workload} has no metric "{metric}" in the study file')
        try:
            read = parse_typed(text, declared.unit, plausible=declared.plausible)
        except TypedError as error:
            raise UsageError(f"{error}; nothing was changed") from None
        value = Value(
            workload, metric, declared.unit, read.value,
            low=read.low, high=read.high, bound=read.bound,
        )  # fmt: skip
        before = correct_reading(ledger, key, value, reason)
    return Corrected(uid[:ID_LENGTH], before, read, declared.unit)
