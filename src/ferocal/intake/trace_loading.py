"""Traces from files that were captured elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.loading import Place, intake_at, refuse_known
from ferocal.intake.record import make_batch, record
from ferocal.intake.tables import digest_of
from ferocal.intake.traces import TraceError, read_file
from ferocal.ledger.opening import open_ledger
from ferocal.measure.traces import summarise_captures
from ferocal.study.configurations import closest
from ferocal.study.metrics import Metric, TraceSource

if TYPE_CHECKING:
    from ferocal.study.load import Study


def load_trace(study: Study, place: Place, files: Sequence[Path], *, again: bool) -> dict[str, int]:
    """Record the captures of one run, and what they come to.

    Columns are those that the study file names; where it names none, a file holds a number
    per line, or a column ``value`` as `ferocal export` writes it.

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
    try:
        captures = [read_file(file, _source_for(file, metric)) for file in files]
        values, traces = summarise_captures(place.workload, place.metric, metric, captures)
    except TraceError as error:
        raise IntakeError(f"{', '.join(map(str, files))}: {error}; nothing was recorded") from None
    names = [c.name for c in study.configurations]
    series = {(w, name): n for n, (w, name, _) in enumerate(study.metrics())}
    intake = intake_at(
        place,
        np.array([series[value.workload, value.metric] for value in values]),
        names.index(place.configuration),
        value=np.array([value.value for value in values]),
        samples=np.array([np.nan if v.samples is None else v.samples for v in values]),
        run=Labels.same("1", len(values)),
    )
    batch = make_batch(intake, study, traces)
    with open_ledger(study.directory, create=True) as ledger:
        return record(ledger, batch, kind="load", source=str(files[0]), digest=digests[0])


def _trace_metric(study: Study, place: Place) -> Metric:
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


def _source_for(file: Path, metric: Metric) -> TraceSource:
    """The columns of a file: those of the study, or those that an export writes."""
    source = metric.source
    assert isinstance(source, TraceSource)
    if file.suffix != ".parquet":
        return source
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        names = pq.read_schema(file).names
    except (pa.ArrowException, OSError):
        return source  # reading it will tell what is wrong
    if source.column in names or "value" not in names:
        return source
    # An export has left out what is skipped, has durations instead of stamps, and is in ms.
    own = {name: name if name in names else None for name in ("time", "second")}
    return source.model_copy(update={"column": "value", "skip": 0, "stamps": False, **own})
