"""Traces from files: captured elsewhere, or exported from another ledger."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.exported import Exported, read_exported
from ferocal.intake.formats import digest_of
from ferocal.intake.placed import ReadingPlace, check_metric, intake_of
from ferocal.intake.record import TracesOfRuns, make_batch, record, refuse_known
from ferocal.intake.trace_files import located, read_columns
from ferocal.intake.trace_patterns import PlacedFiles
from ferocal.intake.trace_roles import RATE, CaptureForm, Understood, notes_of, understand
from ferocal.ledger.writing.opening import open_ledger
from ferocal.study.metrics import Metric
from ferocal.study.sources import LOADED, TraceSource
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import UnitError, convert
from ferocal.traces.capture import CaptureColumns, Trace, TraceError
from ferocal.traces.kinds import TraceKind, summarise_trace

if TYPE_CHECKING:
    from ferocal.intake.readings import Intake
    from ferocal.study.load import Study


@dataclass(frozen=True)
class CapturedRun:
    """The captures of one metric in a run, in the unit of ``metric``, and their files."""

    place: ReadingPlace
    metric: Metric
    captures: Sequence[CaptureColumns]
    files: Sequence[Path]


@dataclass(frozen=True)
class LoadedTraces:
    """How much captures hold, and by run (its files) the value of each metric computed.

    ``said`` is what was recognised without having been stated.
    """

    counts: dict[str, int]
    said: Sequence[str]
    runs: Sequence[tuple[Sequence[Path], Mapping[str, float]]]


def load_traces(
    study: Study,
    placed: Sequence[PlacedFiles],
    form: CaptureForm,
    *,
    again: bool = False,
    preview: bool = False,
    operator: str | None = None,
) -> LoadedTraces:
    """Record captures with the metrics computed of them; with ``preview`` nothing is recorded.

    Where neither the study file nor ``form`` names a column, a file holds a number per line, or
    its columns are recognised.

    Raises
    ------
    IntakeError
        When a file is wrong, or was loaded before.
    UsageError
        When a name is unknown, or the metric is not a trace.
    LedgerError
        When the ledger cannot be written.
    """
    files = [file for group in placed for file in group.files]
    digests = [digest_of(file) for file in files]
    if not again:
        refuse_known(study, files, digests)
    runs, recognised = [], dict[str, Sequence[str]]()
    for group in placed:
        place = find_trace_place(study, group.place)
        metric = _as_written(trace_metric(study, place), form)
        understood = [_read(file, metric, form) for file in group.files]
        runs.append(CapturedRun(place, metric, [u.columns for u in understood], group.files))
        recognised |= {str(f): u.said for f, u in zip(group.files, understood, strict=True)}
    intake, traces = summarise_runs(study, runs)
    batch = make_batch(intake, study, traces)
    said = notes_of(recognised)
    loaded = LoadedTraces(batch.counts, said, _values_by_run(study, intake, runs))
    if not preview:
        with open_ledger(study.directory, create=True, mask=study.mask) as ledger:
            source = ", ".join(map(str, files))
            record(
                ledger, study, batch, kind="load", source=source, digest=" ".join(digests),
                operator=operator,
            )  # fmt: skip
    return loaded


def find_trace_place(study: Study, place: ReadingPlace) -> ReadingPlace:
    """A place with its trace metric, which need not be named where there is but one.

    Raises
    ------
    UsageError
        When a name is unknown, or the metric has to be named.
    """
    if not place.workload:
        traced = [
            name
            for name, entry in study.workloads.items()
            if any(metric.trace_kind is not None for metric in entry.metric.values())
        ]
        if len(traced) != 1:
            known = f": {', '.join(traced)}" if traced else ""
            raise UsageError(
                f"{len(traced) or 'no'} workloads have traces{known}; name one with --workload"
            )
        place = replace(place, workload=traced[0])
    study.configuration(place.configuration)
    metrics = study.workload(place.workload).metric
    found = [name for name, metric in metrics.items() if metric.trace_kind is not None]
    if not place.metric and len(found) != 1:
        known = f": {', '.join(found)}; name one with --metric" if found else ""
        raise UsageError(f"{place.workload} has {len(found) or 'no'} traces{known}")
    return replace(place, metric=place.metric or found[0])


def trace_metric(study: Study, place: ReadingPlace) -> Metric:
    """The metric of a trace, with a source even if the study names none.

    Raises
    ------
    UsageError
        When a name is unknown, or the metric is not a trace.
    """
    study.configuration(place.configuration)
    metrics = study.workload(place.workload).metric
    check_metric(place, list(metrics))
    metric = metrics[place.metric]
    if metric.trace_kind is None:
        raise UsageError(f'{place.metric} is not a trace: it needs kind = "frames" or "soak"')
    if metric.source is not None:
        return metric
    return metric.model_copy(update={"source": LOADED})


def _as_written(metric: Metric, form: CaptureForm) -> Metric:
    """The metric with the source as the files are written."""
    assert isinstance(metric.source, TraceSource)
    if form.unit is not None and form.unit != RATE:
        _check_unit(form.unit, metric)
    changes = {} if form.skip is None else {"skip": form.skip}
    return metric.model_copy(update={"source": metric.source.model_copy(update=changes)})


def _check_unit(unit: str, metric: Metric) -> None:
    try:
        convert(1.0, unit, metric.unit)
    except UnitError as error:
        raise UsageError(f"--unit: {error}") from None


def _read(file: Path, metric: Metric, form: CaptureForm) -> Understood:
    """A capture, in the unit of the metric."""
    if read_exported(file) is not None:
        raise IntakeError(f"{file}: names itself the run it is of; use `ferocal load` for it")
    try:
        columns, written = read_columns(file, _wanted(metric, form), form.decimal)
    except TraceError as error:
        raise IntakeError(f"{file}: {error}; nothing was recorded") from None
    try:
        doubtful = written is not None and written.doubtful
        return understand(columns, metric, form, doubtful=doubtful)
    except ValueError as error:
        assert isinstance(metric.source, TraceSource)
        where = located(TraceError.of(error, 0), [file], metric.source)
        raise IntakeError(f"{where}; nothing was recorded") from None


def _wanted(metric: Metric, form: CaptureForm) -> list[str]:
    """The columns that are read, none for all: where one has to be recognised."""
    source = metric.source
    assert isinstance(source, TraceSource)
    named = {**source.columns}
    named |= {r: n for r, n in (("value", form.column), ("time", form.time)) if n is not None}
    timed = metric.kind == "frames" or "time" in named or form.interval or source.interval
    return list(named.values()) if "value" in named and timed else []


def _kind_of(metric: Metric) -> TraceKind:
    kind = metric.trace_kind
    assert kind is not None
    return kind


def _values_by_run(
    study: Study, intake: Intake, runs: Sequence[CapturedRun]
) -> list[tuple[Sequence[Path], Mapping[str, float]]]:
    metrics = study.read_metrics()
    return [
        (
            run.files,
            {
                metrics[int(series)][1]: float(value)
                for series, value, name in zip(
                    intake.series_of, intake.value, intake.run.codes, strict=True
                )
                if intake.run.names[int(name)] == run.place.run
            },
        )
        for run in runs
    ]


def summarise_runs(study: Study, runs: Iterable[CapturedRun]) -> tuple[Intake, TracesOfRuns]:
    """The readings computed of the traces of runs, and the traces by run.

    Raises
    ------
    IntakeError
        When a trace cannot be true.
    """
    places: list[ReadingPlace] = []
    values: list[float] = []
    samples: list[float] = []
    bounds: list[str] = []
    traces: defaultdict[str, list[tuple[str, Trace]]] = defaultdict(list)
    for run in runs:
        place, metric = run.place, run.metric
        try:
            result = summarise_trace(
                place.metric, _kind_of(metric), metric.trace_spec, run.captures
            )
        except TraceError as error:
            assert isinstance(metric.source, TraceSource)
            what = located(error, run.files, metric.source)
            raise IntakeError(f"{what}; nothing was recorded") from None
        places += [replace(place, metric=f"{place.metric}/{part}") for part in result.values]
        values += [value for value, _ in result.values.values()]
        bounds += [bound or "" for _, bound in result.values.values()]
        count = np.nan if result.samples is None else float(result.samples)
        samples += [count] * len(result.values)
        traces[place.run] += [(place.workload, trace) for trace in result.traces]
    intake = intake_of(
        study,
        places,
        value=np.array(values),
        samples=np.array(samples),
        bound=Labels.of_texts(bounds),
    )
    return intake, traces


def runs_of(study: Study, exported: Iterable[Exported]) -> list[CapturedRun]:
    """The runs of which traces were exported.

    Raises
    ------
    IntakeError
        When a trace does not fit the study.
    """
    by_place: defaultdict[ReadingPlace, list[Exported]] = defaultdict(list)
    for capture in sorted(exported, key=lambda capture: capture.number):
        by_place[capture.place].append(capture)
    runs = []
    for place, captures in by_place.items():
        metric = _as_exported(trace_metric(study, place))
        columns = [_in_unit_of(metric, capture) for capture in captures]
        runs.append(CapturedRun(place, metric, columns, [capture.path for capture in captures]))
    return runs


def _as_exported(metric: Metric) -> Metric:
    """A metric whose traces are read as they are kept, with nothing to skip."""
    assert isinstance(metric.source, TraceSource)
    as_kept = {"stamps": False, "skip": 0, "column": "value"}
    source = metric.source.model_copy(update=as_kept)
    unit = _kind_of(metric).kept_unit or metric.unit
    return metric.model_copy(update={"source": source, "unit": unit})


def _in_unit_of(metric: Metric, exported: Exported) -> CaptureColumns:
    """The columns of a trace in the unit of a metric, checked to be complete."""
    columns, trace = dict(exported.trace.columns), exported.trace
    assert isinstance(metric.source, TraceSource)
    if trace.kind != metric.kind:
        raise IntakeError(f"{exported.path}: is of the kind {trace.kind}, not {metric.kind}")
    for channel in metric.source.channels:
        if channel.role not in columns:
            raise IntakeError(f'{exported.path}: has no column "{channel.role}" for {channel.name}')
    try:
        factor = convert(1.0, trace.unit, metric.unit)
    except UnitError as error:
        raise IntakeError(f"{exported.path}: {error}") from None
    return columns if factor == 1 else columns | {"value": columns["value"] * factor}
