"""What happened within the runs: the parts of traces compared, and the curves behind them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.answers.sessions import Course, SessionChoice, choose_sessions
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.errors import UsageError
from ferocal.ledger.reading.columns import read_traces
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.study.metrics import Metric, derive
from ferocal.terms.frozen import dataclass
from ferocal.traces.kinds import Collector, TraceKind


@dataclass(frozen=True)
class TraceMetric:
    """A metric that is a trace, with the names of its parts."""

    workload: str
    name: str
    metric: Metric
    kind: TraceKind
    parts: tuple[str, ...]


@dataclass(frozen=True)
class TraceCurves:
    """What is drawn of one metric on one bench, a curve for each configuration with traces.

    ``visits`` has for every curve the places in time of the visits that its captures are of.
    """

    bench: str
    metric: TraceMetric
    curves: tuple[Any, ...]
    visits: tuple[tuple[int, ...], ...]


@dataclass(frozen=True)
class TraceAnswer:
    """The traces of one kind: what was read, and how configurations compare.

    ``curves`` are read by `with_curves` only, and with them the ``sessions`` of soaks.
    """

    kind: TraceKind
    metrics: tuple[TraceMetric, ...]
    table: ReadingsTable
    comparison: Comparison
    curves: tuple[TraceCurves, ...] = ()
    sessions: tuple[SessionChoice, ...] = ()


def compare_traces(
    study: Study,
    evidence: Evidence,
    kind: str,
    *,
    against: str | None = None,
    selection: Selection | None = None,
) -> TraceAnswer:
    """The metrics of a kind, of the wanted workloads and configurations.

    Raises
    ------
    UsageError
        When a name is unknown, or there is no trace of the kind.
    """
    selection = selection or Selection()
    selection = selection.resolve(study)
    metrics = find_trace_metrics(study, kind, selection.workloads)
    places = frozenset((metric.workload, part) for metric in metrics for part in metric.parts)
    wanted = replace(selection, places=places)
    return TraceAnswer(
        metrics[0].kind,
        tuple(metrics),
        make_table(study, evidence, wanted),
        compare(study, evidence, against=against, selection=wanted),
    )


def find_trace_metrics(study: Study, kind: str, workloads: Sequence[str]) -> list[TraceMetric]:
    """The metrics of a kind, of some workloads or of all.

    Raises
    ------
    UsageError
        When there is none.
    """
    found = [
        TraceMetric(workload, name, metric, metric.trace_kind, tuple(derive(name, metric)))
        for workload, entry in study.workloads.items()
        for name, metric in entry.metric.items()
        if metric.trace_kind is not None
        and metric.kind == kind
        and (not workloads or workload in workloads)
    ]
    if not found:
        raise UsageError(f'this study has no {kind}: no metric in study.toml has kind = "{kind}"')
    return found


def with_curves(
    answer: TraceAnswer, study: Study, ledger: Ledger, evidence: Evidence, selection: Selection
) -> TraceAnswer:
    """The answer with its curves and, of soaks, with what they say of sessions."""
    curves = _trace_curves(study, ledger, evidence, answer.metrics, selection)
    sessions = [
        choice
        for drawn in curves
        if answer.kind.takes_sessions
        for choice in choose_sessions(
            study, evidence, answer.comparison,
            (drawn.bench, drawn.metric.workload, drawn.metric.name),
            [Course(*course) for course in zip(drawn.curves, drawn.visits, strict=True)],
        )
    ]  # fmt: skip
    return replace(answer, curves=tuple(curves), sessions=tuple(sessions))


def _trace_curves(
    study: Study,
    ledger: Ledger,
    evidence: Evidence,
    metrics: Sequence[TraceMetric],
    selection: Selection,
) -> list[TraceCurves]:
    """The curves of metrics on every bench that has traces; traces are read one at a time."""
    found = []
    for metric in metrics:
        by_bench = _collect(ledger, evidence, metric, selection)
        for bench in study.benches:
            collected = by_bench.get(bench, {})
            places = [collected[c.name] for c in study.configurations if c.name in collected]
            if places:
                curves = tuple(collector.curve() for collector, _ in places)
                visits = tuple(tuple(visits) for _, visits in places)
                found.append(TraceCurves(bench, metric, curves, visits))
    return found


def _collect(
    ledger: Ledger, evidence: Evidence, metric: TraceMetric, selection: Selection
) -> dict[str, dict[str, tuple[Collector, list[int]]]]:
    """By bench and configuration, what has taken the captures, and the visits these are of."""
    spec = metric.metric.trace_spec
    collected: dict[str, dict[str, tuple[Collector, list[int]]]] = {}
    part = metric.parts[0]
    for row in read_traces(ledger, metric.kind.name, metric.workload, metric.name):
        if selection.wants(row.bench, row.configuration, metric.workload, part):
            of_bench = collected.setdefault(row.bench, {})
            if row.configuration not in of_bench:
                of_bench[row.configuration] = (metric.kind.collect(row.configuration, spec), [])
            collector, visits = of_bench[row.configuration]
            collector.add(row.columns)
            visits.append(evidence.visit_order[row.visit])
    return collected
