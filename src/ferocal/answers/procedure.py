"""How the readings of a study came about, and what of it does not count."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ferocal.answers.evidence import Evidence
from ferocal.ledger.reading.additions import read_notes
from ferocal.ledger.reading.runs import (
    FailedRun,
    count_outcomes,
    read_failures,
)
from ferocal.ledger.reading.sessions import read_kinds_of_runs
from ferocal.ledger.reading.visits import NOWHERE, VisitRow
from ferocal.ledger.records import Note
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.private import is_identifying, without_errors

NOT_SHOWN = "not shown"


@dataclass(frozen=True)
class Procedure:
    """How the readings at hand came about; nothing that did not happen.

    ``sources`` counts runs by how they came ("measure", "enter", "load"). ``runs_per_visit`` are
    the fewest and the most runs of a workload in a visit, None without any. ``began`` and
    ``ended`` are the first and last known times of visits, ``undated`` counts those without.
    ``order`` has for each bench the rounds with their configurations, or, where they were not
    ``in_rounds``, how many visits a configuration had in one go; ``split`` of the ``rounds`` were
    interrupted and resumed. ``looks`` are the rounds after which a sequential study was looked at,
    None for any other study. ``checks`` are level, expectation, and how often it held;
    ``set_aside`` are visits of which one did not.
    """

    sources: Mapping[str, int]
    runs_per_visit: tuple[int, int] | None
    began: str | None
    ended: str | None
    undated: int
    outcomes: Mapping[str, int]
    order: Mapping[str, list[tuple[int, list[str]]]]
    in_rounds: bool
    split: int
    rounds: int
    seed: int
    looks: tuple[int, ...] | None
    checks: list[tuple[str, str, int]]
    failures: list[FailedRun]
    notes: list[tuple[str, Note]]
    remarks: list[str]
    set_aside: tuple[VisitRow, ...]


def may_show(fact: str, *, identifying: bool) -> bool:
    """Whether a fact does not identify the machine, or may be published although it does."""
    return identifying or not is_identifying(fact)


def bench_facts(
    study: Study, evidence: Evidence, bench: str, *, identifying: bool
) -> list[tuple[str, str, str]]:
    """Kind, name and value of what is known of a bench, or declared where nothing is."""
    visits = (v for v in evidence.visits if v.bench == bench)
    facts = _describe_facts(visits, evidence.facts) or _declared(study.on(bench))
    return _publishable(facts, identifying=identifying)


def _publishable(
    facts: list[tuple[str, str, str]], *, identifying: bool
) -> list[tuple[str, str, str]]:
    """Facts without those that tell one machine from all others of its kind."""
    return [
        (kind, name, value if may_show(name, identifying=identifying) else NOT_SHOWN)
        for kind, name, value in facts
    ]


def _describe_facts(
    visits: Iterable[VisitRow], facts: Mapping[int, list[dict[str, Any]]]
) -> list[tuple[str, str, str]]:
    """Kind, name and value of every fact; values that differ name their configurations."""
    seen: dict[tuple[str, str], dict[str, list[str]]] = {}
    for visit in visits:
        for fact in facts[visit.facts_id]:
            values = seen.setdefault((fact["kind"], fact["name"]), {})
            values.setdefault(fact["value"], []).append(visit.configuration)
    return [
        (
            kind,
            name,
            "; ".join(f"{value} ({', '.join(dict.fromkeys(on))})" for value, on in values.items())
            if len(values) > 1
            else next(iter(values)),
        )
        for (kind, name), values in seen.items()
    ]


def _declared(study: Study) -> list[tuple[str, str, str]]:
    """What is said of a bench of which Ferocal has seen nothing itself."""
    return [("declared", name, str(value)) for name, value in study.bench_table.facts.items()]


def describe_procedure(
    study: Study,
    ledger: Ledger,
    evidence: Evidence,
    *,
    identifying: bool,
) -> Procedure:
    """How the readings of a ledger came about; see `bench_facts` for ``identifying``."""
    visits = evidence.visits
    active = [visit for visit in visits if visit.state == "active"]
    held = Counter(
        (check["level"], check["expected"])
        for visit in active
        for check in visit.checks
        if check["holds"]
    )
    benches = dict.fromkeys([*study.benches, *sorted(evidence.kinds)])
    measured = [bench for bench in benches if "measure" in evidence.kinds.get(bench, ())]
    visited = [v for v in active if v.round is not None and v.bench in measured]
    in_rounds = study.head.schedule == "rounds"
    ordered = order_of_rounds if in_rounds else order_of_stays
    order = {bench: ordered([v for v in visited if v.bench == bench]) for bench in measured}
    parts = Counter((bench, number) for bench, rows in order.items() for number, _ in rows)
    times = sorted(visit.started_at for visit in visits if visit.started_at)
    looks = {n for taken in evidence.looks_taken.values() for n in taken}
    return Procedure(
        sources=read_kinds_of_runs(ledger),
        runs_per_visit=_runs_per_visit(evidence),
        began=times[0] if times else None,
        ended=times[-1] if times else None,
        undated=sum(not visit.started_at for visit in visits),
        outcomes=count_outcomes(ledger),
        order=order,
        in_rounds=in_rounds,
        split=sum(count > 1 for count in parts.values()),
        rounds=len(parts),
        seed=study.head.seed,
        looks=None if evidence.looks is None else tuple(sorted(looks)),
        checks=[(level, expected, count) for (level, expected), count in held.items()],
        failures=[
            failed if identifying else replace(failed, reason=without_errors(failed.reason or ""))
            for failed in read_failures(ledger)
        ],
        set_aside=evidence.set_aside,
        notes=read_notes(ledger),
        remarks=list(dict.fromkeys(remark for visit in visits for remark in visit.remarks)),
    )


def _runs_per_visit(evidence: Evidence) -> tuple[int, int] | None:
    """The fewest and the most runs of a workload that visits have, as found."""
    readings = evidence.readings
    if not len(readings.value):
        return None
    pairs = np.stack([readings.arm_of, readings.visit_of, readings.run_of])
    distinct = np.unique(pairs, axis=1)[:2]
    counts = np.unique(distinct, axis=1, return_counts=True)[1]
    return int(counts.min()), int(counts.max())


def order_of_rounds(visits: Iterable[VisitRow]) -> list[tuple[int, list[str]]]:
    """Which configurations were visited one after the other, with the round they belong to.

    In the order in which it happened, whatever was planned: a round that was left and taken up
    again later stands there twice. What has no known time is left out.
    """
    stretches = itertools.groupby(_in_time(visits), key=lambda v: v.round or 0)
    return [(number, [visit.configuration for visit in stretch]) for number, stretch in stretches]


def order_of_stays(visits: Iterable[VisitRow]) -> list[tuple[int, list[str]]]:
    """How many visits in one go there were to which configuration, in the order of time."""
    stretches = itertools.groupby(_in_time(visits), key=lambda v: v.configuration)
    return [(len(list(stretch)), [name]) for name, stretch in stretches]


def _in_time(visits: Iterable[VisitRow]) -> list[VisitRow]:
    return sorted((v for v in visits if v.place != NOWHERE), key=lambda v: v.place)
