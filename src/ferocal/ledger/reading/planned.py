"""What a plan asks of a ledger: its runs, and how many of them are there."""

from __future__ import annotations

from ferocal.ledger.reading.sql import RUNS, listed
from ferocal.ledger.records import SETTLED, Slot
from ferocal.ledger.store import Ledger
from ferocal.plan.order import PlannedVisit, plan_study, workloads_of
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


def wanted_metrics(study: Study) -> dict[str, set[tuple[str, str | None]]]:
    """By workload, what a run of it is to yield while it is measured."""
    return {
        workload: {
            (name, metric.unit if metric.kind == "value" else None)
            for name, metric in entry.metric.items()
            if metric.source is not None or name in entry.asked
        }
        for workload, entry in study.workloads.items()
    }


def slots_of(study: Study, planned: PlannedVisit) -> list[Slot]:
    """The runs of a planned visit, in order."""
    return [
        Slot(planned.round, planned.configuration, workload, number)
        for workload in workloads_of(study, planned)
        for number in range(1, study.head.runs + 1)
    ]


@dataclass(frozen=True)
class Progress:
    """How much of the plan is there on a bench.

    ``open`` are runs that `measure` would take, ``last_round`` is the last one that was begun.
    """

    open: int
    last_round: int


def read_progress(study: Study, ledger: Ledger) -> dict[str, Progress]:
    """The progress of every bench, which counts runs that failed as there."""
    query = (
        "SELECT DISTINCT visit.bench, visit.round, visit.configuration, run.workload, run.number "
        f"FROM {RUNS} WHERE run.outcome IN {listed(SETTLED)} AND NOT run.warmup "
        "AND visit.state = 'active' AND visit.round IS NOT NULL"
    )
    planned = {slot for visit in plan_study(study) for slot in slots_of(study, visit)}
    settled: dict[str, set[Slot]] = {}
    for bench, *place in ledger.rows(query):
        settled.setdefault(bench, set()).add(Slot(*place))
    return {
        bench: Progress(
            len(planned - settled.get(bench, set())),
            max((slot.round for slot in settled.get(bench, ())), default=0),
        )
        for bench in study.benches
    }
