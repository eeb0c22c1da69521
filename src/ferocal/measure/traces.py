"""Traces of a run: found in its files or its output, read, and summarised."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from ferocal.bench.commands import expand
from ferocal.bench.execution import READ_LIMIT, Completed, Place
from ferocal.bench.limits import OddFileError, check_file, check_settled
from ferocal.intake.trace_files import find_captures, located, read_capture, read_output
from ferocal.ledger.records import Value
from ferocal.study.metrics import Metric
from ferocal.study.sources import TraceSource
from ferocal.terms.numbers import grouped
from ferocal.traces.capture import CaptureColumns, Trace, TraceError
from ferocal.traces.kinds import summarise_trace

# File systems keep times in ticks of a few milliseconds.
_TICK_NS = 20_000_000
_WILD = "*?["


def file_times(metrics: Mapping[str, Metric], within: Place) -> dict[Path, int]:
    """What the file system says is the time now (ns), by directory where traces are to appear.

    A server that keeps the files may have another clock than this machine, and that of this
    machine may be set back; it serves where no file can be made. Directories that are not there
    yet are left out.
    """
    times = {}
    for metric in metrics.values():
        if isinstance(metric.source, TraceSource) and metric.source.file is not None:
            place = _directory_of(metric.source.file, within)
            try:
                with tempfile.TemporaryFile(dir=place) as marker:
                    times[place] = os.fstat(marker.fileno()).st_mtime_ns
            except OSError:
                if place.exists():
                    times[place] = time.time_ns()
    return times


def _directory_of(pattern: str, place: Place) -> Path:
    """The directory in which files of a pattern are, up to its first sign for anything."""
    parent = Path(place.directory, expand(pattern, place)).parent
    while any(sign in str(parent) for sign in _WILD) and parent != parent.parent:
        parent = parent.parent
    return parent


def extract_traces(
    workload: str,
    name: str,
    metric: Metric,
    completed: Completed,
    place: Place,
    began: Mapping[Path, int],
) -> tuple[list[Value], list[Trace]]:
    """The values that are computed of the traces of one metric, and the traces.

    ``began`` is when the run began, as `file_times` has it: files from before are refused.

    Raises
    ------
    TraceError
        When a trace is missing, cannot be read, or cannot be true.
    """
    source = metric.source
    assert isinstance(source, TraceSource)
    if source.file is None:
        if completed.stdout_size > READ_LIMIT:
            raise TraceError(
                f"the output has {grouped(completed.stdout_size)} bytes; write a file instead"
            )
        files: list[str] = ["the output"]
        captures = [read_output(completed.text, metric)]
    else:
        pattern = expand(source.file, place)
        start = began.get(_directory_of(source.file, place))
        since = None if start is None else start - _TICK_NS
        paths = find_captures(Path(place.directory), pattern, since_ns=since)
        files = [path.name for path in paths]
        captures = [_read_whole(path, metric) for path in paths]
    try:
        return summarise_captures(workload, name, metric, captures)
    except TraceError as error:
        raise TraceError(located(error, files, source)) from None


def _read_whole(path: Path, metric: Metric) -> CaptureColumns:
    """A trace in a file that nothing else writes.

    Raises
    ------
    TraceError
        When it is no regular file, is huge, or something may still write into it.
    """
    try:
        before = check_file(path)
        columns = read_capture(path, metric)
        check_settled(path, before)
    except (OddFileError, OSError) as error:
        raise TraceError(str(error)) from None
    return columns


def summarise_captures(
    workload: str, name: str, metric: Metric, captures: Sequence[CaptureColumns]
) -> tuple[list[Value], list[Trace]]:
    """The values that are computed of the captures of one metric, and the traces.

    Raises
    ------
    TraceError
        When a trace cannot be true.
    """
    kind = metric.trace_kind
    assert kind is not None
    result = summarise_trace(name, kind, metric.trace_spec, captures)
    units = {part.name: part.unit for part in kind.parts(metric.trace_spec)}
    values = [
        Value(workload, f"{name}/{part}", units[part], value, result.samples, bound=bound)
        for part, (value, bound) in result.values.items()
    ]
    return values, result.traces
