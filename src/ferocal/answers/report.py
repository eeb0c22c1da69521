"""Everything of a study in one result, for a page."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal, get_args

from ferocal._version import __version__
from ferocal.answers.across import AcrossAnswer, compare_across
from ferocal.answers.chart import RatioChart, make_charts
from ferocal.answers.claims import ClaimsAnswer, examine
from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.factors import FactorsAnswer, attribute
from ferocal.answers.procedure import (
    NOT_SHOWN,
    Procedure,
    bench_facts,
    describe_procedure,
    may_show,
)
from ferocal.answers.rank import RankAnswer, rank
from ferocal.answers.readings import ConditionSummary, RunDots, list_dots, summarise_conditions
from ferocal.answers.references import ReferenceAnswer, stand_among
from ferocal.answers.selection import Selection
from ferocal.answers.series import SeriesAnswer, follow
from ferocal.answers.since import SinceAnswer
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.answers.traces import TraceAnswer, compare_traces, with_curves
from ferocal.errors import NothingToShowError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.additions import read_claims, read_references
from ferocal.ledger.reading.history import read_sessions
from ferocal.ledger.reading.integrity import Identity, read_identity
from ferocal.ledger.reading.runs import RunRow, read_runs
from ferocal.ledger.records import Reference
from ferocal.ledger.store import Ledger
from ferocal.study.load import STUDY_FILE, Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.private import without_errors

Lead = Literal["comparison", "series", "ranking", "factors"]
LEADS: tuple[Lead, ...] = get_args(Lead)
# What costs something, so that configurations are ranked by what they are worth.
_PRICES = ("price", "cost")


@dataclass(frozen=True)
class Provenance:
    """From what a page was made: the ledger, the study file, and who recorded and who analysed.

    ``study_file`` is the SHA-256 of its bytes, ``recorded_with`` the versions of Ferocal.
    """

    version: str
    recorded_with: tuple[str, ...]
    ledger: Identity
    study_file: str
    seed: int


@dataclass(frozen=True)
class Report:
    """Everything that a page shows; ``facts`` are kind, name and value by bench.

    ``lead`` is what it begins with. ``factors`` are there where several were measured, ``claims``
    where the study file has some, ``series`` where the levels of a factor follow each other,
    ``across`` where several benches were measured, ``ranking`` and ``charts`` where three
    configurations were or more, ``references`` where some are kept, ``traces``, by kind, where
    some were recorded, and ``since`` where an earlier bundle was named. ``runs`` are those with
    readings in the order of time, ``dots`` the same by metric, and ``conditions`` what was read
    before them, by bench and workload.
    """

    comparison: Comparison
    table: ReadingsTable
    configurations: list[tuple[str, Mapping[str, str]]]
    facts: Mapping[str, list[tuple[str, str, str]]]
    procedure: Procedure
    provenance: Provenance
    runs: tuple[RunRow, ...]
    dots: tuple[RunDots, ...]
    conditions: Mapping[tuple[str, str], ConditionSummary]
    lead: Lead = "comparison"
    factors: FactorsAnswer | None = None
    claims: ClaimsAnswer | None = None
    series: SeriesAnswer | None = None
    across: AcrossAnswer | None = None
    ranking: RankAnswer | None = None
    charts: tuple[RatioChart, ...] = ()
    references: ReferenceAnswer | None = None
    traces: tuple[TraceAnswer, ...] = ()
    since: SinceAnswer | None = None


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
    with read_ledger(study.directory) as ledger, ledger.snapshot():
        evidence = gather(study, ledger)
        comparison = compare(study, evidence, against=against)
        runs = _publishable_runs(read_runs(ledger), identifying=identifying)
        report = Report(
            comparison=comparison,
            table=make_table(study, evidence),
            configurations=[(c.name, c.levels) for c in study.configurations],
            facts={
                bench: bench_facts(study, evidence, bench, identifying=identifying)
                for bench in study.benches
            },
            procedure=describe_procedure(study, ledger, evidence, identifying=identifying),
            provenance=_provenance(study, ledger),
            runs=runs,
            dots=list_dots(study, evidence.readings.series, runs),
            conditions=summarise_conditions(runs),
            factors=_factors(study, evidence),
            claims=examine(study, evidence, read_claims(ledger)) if study.file.claim else None,
            traces=tuple(_traces(study, ledger, evidence, against)),
            **_standing(study, evidence, read_references(ledger), against, identifying=identifying),
        )
    return replace(report, lead=_lead(study, report))


def _factors(study: Study, evidence: Evidence) -> FactorsAnswer | None:
    several = len(study.file.factor) > 1 and len(evidence.readings.value) > 0
    return attribute(study, evidence) if several else None


def _provenance(study: Study, ledger: Ledger) -> Provenance:
    text = (study.directory / STUDY_FILE).read_bytes()
    return Provenance(
        version=__version__,
        recorded_with=tuple(dict.fromkeys(session.version for session in read_sessions(ledger))),
        ledger=read_identity(ledger),
        study_file=hashlib.sha256(text).hexdigest(),
        seed=study.head.seed,
    )


def _publishable_runs(runs: Sequence[RunRow], *, identifying: bool) -> tuple[RunRow, ...]:
    """The runs but warm-ups, without what programs wrote to standard error."""
    found = (run for run in runs if not run.warmup)
    if identifying:
        return tuple(found)
    return tuple(replace(run, reason=without_errors(run.reason or "")) for run in found)


def _traces(
    study: Study, ledger: Ledger, evidence: Evidence, against: str | None
) -> list[TraceAnswer]:
    """The traces of every kind that the study has, with their curves."""
    kinds = dict.fromkeys(m.kind for _, _, m in study.metrics() if m.trace_kind is not None)
    answers = (compare_traces(study, evidence, kind, against=against) for kind in kinds)
    found = (with_curves(answer, study, ledger, evidence, Selection()) for answer in answers)
    return [answer for answer in found if answer.curves]


def _lead(study: Study, report: Report) -> Lead:
    """What a page begins with: as the study file says, else what fits what the study asks."""
    there = {
        "comparison": True,
        "series": report.series is not None,
        "ranking": report.ranking is not None,
        "factors": report.factors is not None,
    }
    wanted = study.file.report.lead
    if wanted is not None and there[wanted]:
        return wanted
    if report.series is not None:
        return "series"
    ranking = report.ranking
    if ranking is not None:
        priced = any(name in _PRICES for field in ranking.fields for name in field.per_resource)
        if priced or ranking.preferences:
            return "ranking"
    return "comparison"


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


def _across(study: Study, evidence: Evidence, *, identifying: bool) -> AcrossAnswer:
    """The benches against each other, without what identifies one of them."""
    answer = compare_across(study, evidence)
    differing = {
        name: values
        if may_show(name, identifying=identifying)
        else dict.fromkeys(values, NOT_SHOWN)
        for name, values in answer.differing.items()
    }
    return replace(answer, differing=differing)
