"""Traces from files: captured elsewhere, or exported from another ledger."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.exported import Exported, read_exported
from ferocal.intake.placed import Place, intake_of
from ferocal.intake.record import TracesOfRuns, make_batch, record, refuse_known
from ferocal.intake.tables import digest_of
from ferocal.intake.traces import Columns, TraceError, read_file
from ferocal.intake.typed import TypedError, convert
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.records import Trace
from ferocal.measure.traces import summarise_captures
from ferocal.study.configurations import closest
from ferocal.study.metrics import Metric, TraceSource

if TYPE_CHECKING:
    from ferocal.intake.readings import Intake
    from ferocal.study.load import Study


@dataclass(frozen=True)
class CapturedRun:
    """The captures of one metric in a run, in the unit of ``metric``, and their files."""

    place: Place
    metric: Metric
    captures: Sequence[Columns]
    files: Sequence[Path]


def load_trace(
    study: Study, place: Place, files: Sequence[Path], *, again: bool, separate: bool
) -> dict[str, int]:
    """Record captures, and what they come to: of one run, or each of a run of its own.

    Columns are those that the study file names; where it names none, a file holds a number
    per line.

    Raises
    ------
    IntakeError
        When a file is wrong, or was loaded before.
    UsageError
        When a name is not known, or the metric is no trace.
    LedgerError
        When the ledger cannot be written.
    """
    metric = _trace_metric(study, place)
    digests = [digest_of(file) for file in files]
    if not again:
        refuse_known(study, files, digests)
    captures = [_read_capture(file, metric) for file in files]
    runs = [CapturedRun(replace(place, run="1"), metric, captures, files)]
    if separate:
        runs = [
            CapturedRun(replace(place, run=str(number)), metric, [capture], [file])
            for number, (capture, file) in enumerate(zip(captures, files, strict=True), 1)
        ]
    intake, traces = summarise_runs(study, runs)
    batch = make_batch(intake, study, traces)
    with open_ledger(study.directory, create=True) as ledger:
        source = ", ".join(map(str, files))
        return record(ledger, batch, kind="load", source=source, digest=" ".join(digests))


def _read_capture(file: Path, metric: Metric) -> Columns:
    if read_exported(file) is not None:
        raise IntakeError(f"{file}: tells itself of which run it is; load it without --trace")
    assert isinstance(metric.source, TraceSource)
    try:
        return read_file(file, metric.source)
    except TraceError as error:
        raise IntakeError(f"{file}: {error}; nothing was recorded") from None


def summarise_runs(study: Study, runs: Iterable[CapturedRun]) -> tuple[Intake, TracesOfRuns]:
    """What the traces of runs come to, and the traces by run.

    Raises
    ------
    IntakeError
        When a trace cannot be true.
    """
    places, values = [], []
    traces: defaultdict[str, list[tuple[str, Trace]]] = defaultdict(list)
    for run in runs:
        place = run.place
        try:
            own, kept = summarise_captures(
                place.workload, place.metric, run.metric, [*run.captures]
            )
        except TraceError as error:
            named = ", ".join(map(str, run.files))
            raise IntakeError(f"{named}: {error}; nothing was recorded") from None
        places += [replace(place, metric=value.metric) for value in own]
        values += own
        traces[place.run] += [(place.workload, trace) for trace in kept]
    intake = intake_of(
        study,
        places,
        value=np.array([value.value for value in values]),
        samples=np.array([np.nan if v.samples is None else v.samples for v in values]),
    )
    return intake, traces


def runs_of(study: Study, exported: Iterable[Exported]) -> list[CapturedRun]:
    """The runs of which traces were exported.

    Raises
    ------
    IntakeError
        When a trace does not fit the study.
    """
    by_place = defaultdict(list)
    for one in sorted(exported, key=lambda one: one.number):
        by_place[one.place].append(one)
    runs = []
    for place, own in by_place.items():
        metric = _as_exported(_trace_metric(study, place))
        captures = [_in_unit_of(metric, one) for one in own]
        runs.append(CapturedRun(place, metric, captures, [one.path for one in own]))
    return runs


def _as_exported(metric: Metric) -> Metric:
    """A metric whose traces are read as they are exported: in ms, and nothing is to skip."""
    assert isinstance(metric.source, TraceSource)
    source = metric.source.model_copy(update={"stamps": False, "skip": 0})
    unit = "ms" if metric.kind == "frames" else metric.unit
    return metric.model_copy(update={"source": source, "unit": unit})


def _in_unit_of(metric: Metric, one: Exported) -> Columns:
    """The columns of a trace in the unit of a metric, checked to be all."""
    columns, trace = dict(one.trace.columns), one.trace
    assert isinstance(metric.source, TraceSource)
    if trace.kind != metric.kind:
        raise IntakeError(f"{one.path}: is of the kind {trace.kind}, not {metric.kind}")
    if metric.source.second is not None and "second" not in columns:
        raise IntakeError(f"{one.path}: has no second column for {metric.source.second}")
    try:
        factor = convert(1.0, trace.unit, metric.unit)
    except TypedError as error:
        raise IntakeError(f"{one.path}: {error}") from None
    return columns if factor == 1 else columns | {"value": columns["value"] * factor}


def _trace_metric(study: Study, place: Place) -> Metric:
    """The metric of a trace, with a source even if the study names none.

    Raises
    ------
    UsageError
        When a name is not known, or the metric is no trace.
    """
    study.configuration(place.configuration)
    metrics = study.workload(place.workload).metric
    if place.metric not in metrics:
        hint = closest(place.metric, list(metrics))
        raise UsageError(f'{place.workload} has no metric "{place.metric}"; {hint}')
    metric = metrics[place.metric]
    if metric.kind == "value":
        raise UsageError(f'{place.metric} is no trace: it needs kind = "frames" or "soak"')
    if metric.source is not None:
        return metric
    return metric.model_copy(update={"source": TraceSource(file="*")})
