"""What is kept beside readings: claims as they stand now, noise floors, corrections."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.errors import LedgerError, UsageError
from ferocal.intake.typed import TypedError, TypedReading, parse_typed
from ferocal.ledger.reading.runs import ID_LENGTH, resolve_run_ids, workload_of_run
from ferocal.ledger.records import NoiseFloorRecord, Value
from ferocal.ledger.writing.additions import correct_reading, freeze_claims, record_noise_floors
from ferocal.ledger.writing.opening import open_ledger
from ferocal.study.claims import claims_of
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import called


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
        titles = {n: [m.title] for w, n, m in study.read_metrics() if w == workload}
        metric = called(metric, titles)
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
        reason = f"{reason}; {read.remark}" if read.remark else reason
        before = correct_reading(ledger, key, value, reason)
    return Corrected(uid[:ID_LENGTH], before, read, declared.unit)
