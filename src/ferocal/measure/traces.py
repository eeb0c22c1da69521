"""Traces of a run: found in its files or its output, read, and summarised."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ferocal.bench.commands import expand
from ferocal.bench.execution import READ_LIMIT, Completed
from ferocal.intake.trace_files import find_captures, read_capture, read_output
from ferocal.ledger.records import Value
from ferocal.study.metrics import Metric
from ferocal.study.sources import TraceSource
from ferocal.terms.numbers import grouped
from ferocal.traces.capture import CaptureColumns, Trace, TraceError
from ferocal.traces.kinds import summarise_trace

# File systems keep times in ticks of a few milliseconds.
_TICK_NS = 20_000_000


def extract_traces(
    workload: str, name: str, metric: Metric, completed: Completed, directory: Path, began_ns: int
) -> tuple[list[Value], list[Trace]]:
    """The values that are computed of the traces of one metric, and the traces.

    ``began_ns`` is when the run began: files from before it are refused.

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
        captures = [read_output(completed.text, source)]
    else:
        pattern = expand(source.file, directory)
        files = find_captures(directory, pattern, since_ns=began_ns - _TICK_NS)
        captures = [read_capture(file, source) for file in files]
    return summarise_captures(workload, name, metric, captures)


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
