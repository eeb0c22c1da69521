"""What a plan asks of a ledger: its runs, and how many of them are there."""

from __future__ import annotations

import itertools

from ferocal.ledger.reading.sql import listed
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
        for workload in workloads_of(study, planned.configuration)
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
    settled = _settled_runs(ledger)
    planned = {(visit.round, visit.configuration) for visit in plan_study(study)}
    numbers = range(1, study.head.runs + 1)
    wanted = {
        c.name: set(itertools.product(workloads_of(study, c.name), numbers))
        for c in study.configurations
    }
    return {
        bench: Progress(
            sum(len(wanted[c] - settled.get((bench, r, c), set())) for r, c in planned),
            max((r for of_bench, r, _ in settled if of_bench == bench), default=0),
        )
        for bench in study.benches
    }


def _settled_runs(ledger: Ledger) -> dict[tuple[str, int, str], set[tuple[str, int]]]:
    """By bench, round and configuration the runs that are there: workloads with their numbers."""
    places = {
        key: (bench, number, configuration)
        for key, bench, number, configuration in ledger.rows(
            "SELECT id, bench, round, configuration FROM visit "
            "WHERE state = 'active' AND round IS NOT NULL"
        )
    }
    settled: dict[tuple[str, int, str], set[tuple[str, int]]] = {}
    query = f"SELECT visit_id, workload, number FROM run WHERE outcome IN {listed(SETTLED)}"
    for visit, *run in ledger.rows(f"{query} AND NOT warmup"):
        if visit in places:
            settled.setdefault(places[visit], set()).add(tuple(run))
    return settled
