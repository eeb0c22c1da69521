"""Traces of a study: their metrics, and the curves that are drawn of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ferocal.analysis.curves import FrameCollector, FrameCurve, SoakCurve, soak_curve
from ferocal.analysis.soak import BIN, bin_width
from ferocal.comparison import Selection
from ferocal.errors import UsageError
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.traces import TraceRow, read_traces
from ferocal.study.load import Study
from ferocal.study.metrics import Metric, derive


@dataclass(frozen=True)
class TraceMetric:
    """A metric of the kind frames or soak, with the names of what is made of it."""

    workload: str
    name: str
    metric: Metric
    derived: tuple[str, ...]


def find_trace_metrics(study: Study, kind: str, workloads: Sequence[str]) -> list[TraceMetric]:
    """The metrics of a kind, of some workloads or of all.

    Raises
    ------
    UsageError
        When there is none, or a workload is not known.
    """
    for name in workloads:
        study.workload(name)
    found = [
        TraceMetric(workload, name, metric, tuple(derive(name, metric)))
        for workload, entry in study.workloads.items()
        for name, metric in entry.metric.items()
        if metric.kind == kind and (not workloads or workload in workloads)
    ]
    if not found:
        raise UsageError(f'no metric of the kind "{kind}" here; declare one with kind = "{kind}"')
    return found


def _rows_by_configuration(
    study: Study, directory: Path, one: TraceMetric, selection: Selection
) -> dict[str, list[TraceRow]]:
    names = [configuration.name for configuration in study.configurations]
    rows: dict[str, list[TraceRow]] = {name: [] for name in names}
    with open_ledger(directory) as ledger:
        for row in read_traces(ledger, one.metric.kind, one.workload, one.name):
            if selection.wants(row.configuration, one.workload, one.derived[0]):
                rows.setdefault(row.configuration, []).append(row)
    return {name: own for name, own in rows.items() if own}


def frame_curves(
    study: Study, directory: Path, one: TraceMetric, selection: Selection
) -> list[FrameCurve]:
    """A curve for each configuration that has frames; traces are read one at a time."""
    collectors: dict[str, FrameCollector] = {}
    with open_ledger(directory) as ledger:
        for row in read_traces(ledger, "frames", one.workload, one.name):
            if selection.wants(row.configuration, one.workload, one.derived[0]):
                own = collectors.setdefault(row.configuration, FrameCollector(row.configuration))
                own.add(row.columns["value"])
    names = [configuration.name for configuration in study.configurations]
    return [collectors[name].curve() for name in names if name in collectors]


def odd_bins(
    study: Study, directory: Path, found: Sequence[TraceMetric], selection: Selection
) -> list[str]:
    """What to say of soaks that are too short or too coarse for medians of ten seconds."""
    said = []
    for one in found:
        widths = {
            bin_width(row.columns["time"] - row.columns["time"][0])
            for own in _rows_by_configuration(study, directory, one, selection).values()
            for row in own
        }
        odd = sorted(width for width in widths if width != BIN)
        if odd:
            span = f"{odd[0]:.3g}" if len(odd) == 1 else f"{odd[0]:.3g} to {odd[-1]:.3g}"
            said.append(
                f"{one.workload} {one.name}: traces are short or coarse, so medians of {span} s "
                f"stand for those of {BIN:g} s; onsets are less certain"
            )
    return said


def soak_curves(
    study: Study, directory: Path, one: TraceMetric, selection: Selection
) -> list[SoakCurve]:
    """A curve for each configuration that has soaks."""
    return [
        soak_curve(
            name,
            [(row.columns["time"], row.columns["value"]) for row in own],
            one.metric.better,
        )
        for name, own in _rows_by_configuration(study, directory, one, selection).items()
    ]
