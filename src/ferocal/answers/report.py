"""Everything of a study in one result, for a page."""

from __future__ import annotations

import contextlib
import itertools
import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ferocal._version import __version__
from ferocal.answers.across import AcrossAnswer, compare_across
from ferocal.answers.chart import RatioChart, make_charts
from ferocal.answers.claims import ClaimsAnswer, examine
from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.factors import FactorsAnswer, attribute
from ferocal.answers.rank import RankAnswer, rank
from ferocal.answers.references import ReferenceAnswer, stand_among
from ferocal.answers.series import SeriesAnswer, follow
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.errors import NothingToShowError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.additions import read_claims, read_notes, read_references
from ferocal.ledger.reading.integrity import Identity, read_identity
from ferocal.ledger.reading.runs import FailedRun, count_outcomes, read_failures
from ferocal.ledger.reading.sessions import read_kinds_of_runs
from ferocal.ledger.reading.visits import NOWHERE, VisitRow
from ferocal.ledger.records import Note, Reference
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study


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


@dataclass(frozen=True)
class Report:
    """Everything that a page shows; ``facts`` are kind, name and value by bench.

    ``factors`` are there where several were measured, ``claims`` where the study file has some,
    ``series`` where the levels of a factor follow each other, ``across`` where several benches
    were measured, ``ranking`` and ``charts`` where three configurations were or more, and
    ``references`` where some are kept.
    """

    comparison: Comparison
    table: ReadingsTable
    configurations: list[tuple[str, Mapping[str, str]]]
    facts: Mapping[str, list[tuple[str, str, str]]]
    procedure: Procedure
    version: str
    ledger: Identity
    factors: FactorsAnswer | None = None
    claims: ClaimsAnswer | None = None
    series: SeriesAnswer | None = None
    across: AcrossAnswer | None = None
    ranking: RankAnswer | None = None
    charts: tuple[RatioChart, ...] = ()
    references: ReferenceAnswer | None = None


def make_report(study: Study, against: str | None = None, *, identifying: bool = False) -> Report:
    """Everything of a study; ``against`` names another baseline than that of the study.

    With ``identifying`` serial numbers are in it, and what failed runs wrote to standard error.

    Raises
    ------
    UsageError
        When there is no configuration of that name.
    LedgerError
        When there is no ledger, or it cannot be read.
    """
    with read_ledger(study.directory) as ledger:
        evidence = gather(study, ledger)
        comparison = compare(study, evidence, against=against)
        procedure = _procedure(study, ledger, evidence, identifying=identifying)
        claims = examine(study, evidence, read_claims(ledger)) if study.file.claim else None
        references = read_references(ledger)
        identity = read_identity(ledger)
    several = len(study.file.factor) > 1 and len(evidence.readings.value) > 0
    return Report(
        comparison=comparison,
        table=make_table(study, evidence),
        configurations=[(c.name, c.levels) for c in study.configurations],
        facts={
            bench: _publishable(
                _describe_facts((v for v in evidence.visits if v.bench == bench), evidence.facts)
                or _declared(study.on(bench)),
                identifying=identifying,
            )
            for bench in study.benches
        },
        procedure=procedure,
        version=__version__,
        ledger=identity,
        factors=attribute(study, evidence) if several else None,
        claims=claims,
        **_standing(study, evidence, references, against, identifying=identifying),
    )


# A ranking of two is a comparison, and a chart of many cannot be read.
_FEWEST_RANKED, _MOST_CHARTED = 3, 8


def _standing(
    study: Study,
    evidence: Evidence,
    references: Sequence[Reference],
    against: str | None,
    *,
    identifying: bool,
) -> dict[str, Any]:
    """Where it stands: over releases, across benches, in a ranking, among references."""
    factor = study.ordered_factor
    benches = len(set(evidence.readings.bench_of.tolist()))
    configurations = set(evidence.readings.configuration_of.tolist())
    wanted: dict[str, Callable[[], Any]] = {}
    if factor is not None and len(evidence.readings.value):
        wanted["series"] = lambda: follow(study, evidence, factor)
    if benches > 1:
        wanted["across"] = lambda: _across(study, evidence, identifying=identifying)
    if len(configurations) >= _FEWEST_RANKED:
        wanted["ranking"] = lambda: rank(study, evidence)
    if _FEWEST_RANKED <= len(configurations) <= _MOST_CHARTED:
        wanted["charts"] = lambda: tuple(
            chart
            for chart in make_charts(study, evidence, references, against=against)
            if chart.drawn
        )
    if references:
        wanted["references"] = lambda: stand_among(study, evidence, references)
    found = {}
    for name, make in wanted.items():
        # What has nothing to show, for lack of readings or of metrics that decide, is left out.
        with contextlib.suppress(NothingToShowError):
            found[name] = make()
    return found


def _may_show(fact: str, *, identifying: bool) -> bool:
    """Whether a fact does not identify the machine, or may be published although it does."""
    return identifying or not _IDENTIFYING.search(fact)


def _publishable(
    facts: list[tuple[str, str, str]], *, identifying: bool
) -> list[tuple[str, str, str]]:
    """Facts without those that tell one machine from all others of its kind."""
    return [
        (kind, name, value if _may_show(name, identifying=identifying) else _NOT_SHOWN)
        for kind, name, value in facts
    ]


def _across(study: Study, evidence: Evidence, *, identifying: bool) -> AcrossAnswer:
    """The benches against each other, without what identifies one of them."""
    answer = compare_across(study, evidence)
    differing = {
        name: values
        if _may_show(name, identifying=identifying)
        else dict.fromkeys(values, _NOT_SHOWN)
        for name, values in answer.differing.items()
    }
    return replace(answer, differing=differing)


_IDENTIFYING = re.compile(
    r"serial|\bs/?n\b|imei|uuid|asset|mac[- _]?addr|machine[- _]?id", re.IGNORECASE
)
_NOT_SHOWN = "not shown"
# What Ferocal says of a command that failed; the end of its standard error comes after that.
_FAILURE = re.compile(
    r"(ended with exit status -?\d+|at its time limit after \S+ s|wrote more than [^:]* bytes): .*",
    re.DOTALL,
)


def _without_errors(reason: str) -> str:
    """A reason without what the program wrote to standard error."""
    return _FAILURE.sub(r"\1", reason)


def _declared(study: Study) -> list[tuple[str, str, str]]:
    """What is said of a bench of which Ferocal has seen nothing itself."""
    return [("declared", name, str(value)) for name, value in study.bench_table.facts.items()]


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


def _procedure(
    study: Study,
    ledger: Ledger,
    evidence: Evidence,
    *,
    identifying: bool,
) -> Procedure:
    visits = evidence.visits
    active = [visit for visit in visits if visit.state == "active"]
    held = Counter(
        (check["level"], check["expected"])
        for visit in active
        for check in visit.checks
        if check["holds"]
    )
    measured = {bench for bench, found in evidence.kinds.items() if "measure" in found}
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
            failed if identifying else replace(failed, reason=_without_errors(failed.reason or ""))
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
