"""Everything of a study in one result, for a page."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ferocal._version import __version__
from ferocal.answers.comparison import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.reading.notes import read_notes
from ferocal.ledger.reading.runs import count_outcomes, read_failures
from ferocal.ledger.reading.visits import VisitRow
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study


@dataclass(frozen=True)
class Procedure:
    """How a study was measured, in words and counts.

    ``order`` has for each bench the rounds with their configurations; ``checks`` are level,
    expectation, and how often it held.
    """

    design: str
    runs_per_visit: int
    first: str
    last: str
    outcomes: Mapping[str, int]
    order: Mapping[str, list[tuple[int, list[str]]]]
    checks: list[tuple[str, str, int]]
    failures: list[str]
    notes: list[str]
    remarks: list[str]


@dataclass(frozen=True)
class Report:
    """Everything that a page shows; ``facts`` are kind, name and value by bench."""

    comparison: Comparison
    table: ReadingsTable
    configurations: list[tuple[str, Mapping[str, str]]]
    facts: Mapping[str, list[tuple[str, str, str]]]
    procedure: Procedure
    version: str


def make_report(study: Study) -> Report:
    """Everything of a study.

    Raises
    ------
    LedgerError
        When there is no ledger, or it cannot be read.
    """
    with open_ledger(study.directory) as ledger:
        evidence = gather(study, ledger)
        procedure = _procedure(study, ledger, evidence)
    return Report(
        comparison=compare(study, evidence),
        table=make_table(study, evidence),
        configurations=[(c.name, c.levels) for c in study.configurations],
        facts={
            bench: _describe_facts((v for v in evidence.visits if v.bench == bench), evidence.facts)
            for bench in study.benches
        },
        procedure=procedure,
        version=__version__,
    )


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


def _procedure(study: Study, ledger: Ledger, evidence: Evidence) -> Procedure:
    visits = evidence.visits
    active = [visit for visit in visits if visit.state == "active"]
    held = Counter(
        (check["level"], check["expected"])
        for visit in active
        for check in visit.checks
        if check["holds"]
    )
    return Procedure(
        design=_describe_design(study, evidence),
        runs_per_visit=study.head.runs,
        first=_minute(visits[0].started_at) if visits else "–",
        last=_minute(visits[-1].started_at) if visits else "–",
        outcomes=count_outcomes(ledger),
        order={bench: _order(v for v in active if v.bench == bench) for bench in study.benches},
        checks=[(level, expected, times) for (level, expected), times in held.items()],
        failures=[
            f"{f.configuration}, {f.workload}, round {f.round}: {f.outcome}, {f.reason}"
            for f in read_failures(ledger)
        ],
        notes=[
            f"{at[:10]}, {subject} {name}: {text}" for at, subject, name, text in read_notes(ledger)
        ],
        remarks=list(dict.fromkeys(remark for visit in visits for remark in visit.remarks)),
    )


def _order(visits: Iterable[VisitRow]) -> list[tuple[int, list[str]]]:
    order: dict[int, list[str]] = {}
    for visit in visits:
        order.setdefault(visit.round or 0, []).append(visit.configuration)
    return sorted(order.items())


def _describe_design(study: Study, evidence: Evidence) -> str:
    """How the visits were ordered and the verdicts reached."""
    if study.head.schedule != "rounds":
        return (
            "The configurations were measured one after the other, so whatever else changed with "
            "time is in every change; verdicts are adjusted after Holm."
        )
    text = (
        f"Rounds come in mirrored pairs, shuffled with seed {study.head.seed}; each effect is "
        "the mean difference between visits of one round, with Student's t interval; verdicts "
        "are adjusted after Holm."
    )
    if evidence.looks is None:
        return text
    looks = ", ".join(map(str, evidence.looks.rounds))
    return f"{text} It was measured until decided, with looks after rounds {looks} at most."


def _minute(time: str) -> str:
    return time[:16].replace("T", " ") + " UTC"
