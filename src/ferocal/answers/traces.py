"""What happened within the runs: the parts of traces compared, and the curves behind them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.errors import UsageError
from ferocal.ledger.reading.columns import read_traces
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.study.metrics import Metric, derive
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
class TraceAnswer:
    """The traces of one kind: what was read, and how configurations compare."""

    kind: TraceKind
    metrics: tuple[TraceMetric, ...]
    table: ReadingsTable
    comparison: Comparison


@dataclass(frozen=True)
class TraceCurves:
    """What is drawn of one metric on one bench, a curve for each configuration with traces."""

    bench: str
    metric: TraceMetric
    curves: tuple[Any, ...]


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


def trace_curves(
    study: Study, ledger: Ledger, metrics: Sequence[TraceMetric], selection: Selection
) -> list[TraceCurves]:
    """The curves of metrics on every bench that has traces; traces are read one at a time."""
    found = []
    for metric in metrics:
        by_bench = _collect(ledger, metric, selection)
        for bench in study.benches:
            collectors = by_bench.get(bench, {})
            names = [c.name for c in study.configurations if c.name in collectors]
            curves = tuple(collectors[name].curve() for name in names)
            if curves:
                found.append(TraceCurves(bench, metric, curves))
    return found


def _collect(
    ledger: Ledger, metric: TraceMetric, selection: Selection
) -> dict[str, dict[str, Collector]]:
    """By bench and configuration, the collectors that have taken their captures."""
    spec, collectors = metric.metric.trace_spec, dict[str, dict[str, Collector]]()
    part = metric.parts[0]
    for row in read_traces(ledger, metric.kind.name, metric.workload, metric.name):
        if selection.wants(row.bench, row.configuration, metric.workload, part):
            of_bench = collectors.setdefault(row.bench, {})
            if row.configuration not in of_bench:
                of_bench[row.configuration] = metric.kind.collect(row.configuration, spec)
            of_bench[row.configuration].add(row.columns)
    return collectors
