"""Seeking a step: one visit after the other, each where it tells most, until it is found."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from ferocal.ledger.reading.planned import slots_of, wanted_metrics
from ferocal.ledger.reading.runs import settled_slots
from ferocal.ledger.records import Slot
from ferocal.ledger.store import Ledger
from ferocal.measure.campaign import on_bench
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Options, Session
from ferocal.plan.order import PlannedVisit
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

MOST_VISITS = 60


@dataclass(frozen=True)
class Target:
    """Where to go next, None where the search has ended, and what is known so far in words."""

    configuration: str | None
    says: str


# Says where to go next, from what is in the ledger.
Guide = Callable[[Study, Ledger], Target]


def measure_until_found(
    study: Study,
    observer: Observer,
    options: Options,
    guide: Guide,
    *,
    most_visits: int = MOST_VISITS,
) -> tuple[Summary, str]:
    """Visit what ``guide`` names until it names nothing, or ``most_visits`` were made.

    A visit that was interrupted is completed first. Returns what was done, and what is known in
    the end, in words. The errors are those of `on_bench` and `Session.carry_out`.
    """
    total, begun = Summary(0, 0), 0
    with on_bench(study, observer, options) as (recorder, executor):
        session = Session(study, recorder, executor, observer, options)
        while True:
            settled = settled_slots(
                recorder.ledger, study.bench, retry=options.retry, wanted=wanted_metrics(study)
            )
            target = guide(study, recorder.ledger)
            unfinished = _unfinished(study, settled)
            if unfinished is None and target.configuration is None:
                return total, target.says
            if begun == most_visits:
                return total, f"not found within {most_visits} visits: {target.says}"
            number = 1 + max((slot.round or 0 for slot in settled), default=0)
            visit = unfinished or PlannedVisit(
                max(number, study.head.rounds + 1), 1, target.configuration or ""
            )
            begun += 1
            observer.remark(f"visit {begun}: {visit.configuration}; {target.says}")
            done = session.carry_out([visit], rounds=visit.round)
            total = _add(total, done)
            if done.remaining or done.taken == len(done.problems):
                return total, f"ended early: {target.says}"


def _unfinished(study: Study, settled: set[Slot]) -> PlannedVisit | None:
    """A visit of a search of which some runs were taken, and others not."""
    places = {(slot.round or 0, slot.configuration) for slot in settled}
    for number, configuration in sorted(places):
        if number > study.head.rounds and configuration in study.names:
            visit = PlannedVisit(number, 1, configuration)
            if not settled.issuperset(slots_of(study, visit)):
                return visit
    return None


def _add(total: Summary, later: Summary) -> Summary:
    """Two visits of one search."""
    return replace(
        later,
        planned=total.planned + later.planned,
        already=total.already + later.already,
        taken=total.taken + later.taken,
        problems=total.problems + later.problems,
        not_active=total.not_active + later.not_active,
        skipped=total.skipped + later.skipped,
        resumed_after_crash=total.resumed_after_crash + later.resumed_after_crash,
        retaken=total.retaken + later.retaken,
    )
