"""Measuring a study from end to end: lock, ledger, bench, plan."""

from __future__ import annotations

from ferocal.bench.execution import local_executor
from ferocal.errors import UsageError
from ferocal.ledger.store import open_ledger
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Session, measuring_lock
from ferocal.study.load import Study


def measure_study(
    study: Study, observer: Observer, *, rounds: int | None = None, retry: bool = False
) -> Summary:
    """Take every run of a study that is not in its ledger yet, on this machine.

    ``rounds`` is the number of rounds in all, by default that of the study file.

    Raises
    ------
    UsageError
        When a study would compare nothing.
    FerocalError
        When another process measures in this study, when the ledger cannot be
        written, or when a configuration is not active.
    """
    if len(study.configurations) < 2:
        raise UsageError(
            f"{study.directory}: there is only one configuration, so nothing to compare; "
            "add a second level to a factor"
        )
    with (
        measuring_lock(study),
        open_ledger(study.directory, create=True) as ledger,
        local_executor() as executor,
    ):
        session = Session(study, ledger, executor, observer)
        return session.carry_out(rounds or study.head.rounds, retry=retry)
