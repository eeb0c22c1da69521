"""Traces that a run wrote: found, checked, summarised."""

from __future__ import annotations

import math
from dataclasses import asdict
from pathlib import Path

import numpy as np

from ferocal.analysis.frames import check_frames, from_stamps, summarise_frames
from ferocal.analysis.soak import check_soak, summarise_soak
from ferocal.bench.commands import expand
from ferocal.bench.execution import READ_LIMIT, Completed
from ferocal.intake.traces import Columns, TraceError, find_captures, read_captures, read_output
from ferocal.ledger.records import Trace, Value
from ferocal.study.metrics import FRAME_UNITS, Metric, TraceSource, derive

_OF_FRAMES = {
    "rate": "rate",
    "1%-low": "low_1",
    "0.1%-low": "low_01",
    "slowest-1%": "slowest_1",
    "over-limit": "over_limit",
    "stutters": "stutters",
}
# File systems keep times in ticks of a few milliseconds.
_TICK_NS = 20_000_000


def extract_traces(
    workload: str, name: str, metric: Metric, completed: Completed, directory: Path, began_ns: int
) -> tuple[list[Value], list[Trace]]:
    """What the traces of one metric come to, and the traces themselves.

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
                f"the output has {completed.stdout_size:,} bytes; write a file instead"
            )
        captures = [read_output(completed.text, source)]
    else:
        pattern = expand(source.file, directory)
        files = find_captures(directory, pattern, since_ns=began_ns - _TICK_NS)
        captures = read_captures(files, source)
    return summarise_captures(workload, name, metric, captures)


def summarise_captures(
    workload: str, name: str, metric: Metric, captures: list[Columns]
) -> tuple[list[Value], list[Trace]]:
    """Values of all metrics that are made of a trace, and the trace as it is kept.

    Raises
    ------
    TraceError
        When a trace cannot be true; what and where is told.
    """
    try:
        make = _frames if metric.kind == "frames" else _soak
        values, traces = make(name, metric, captures)
    except ValueError as error:
        raise TraceError(str(error)) from None
    units = {full: own.unit for full, own in derive(name, metric).items()}
    length = sum(len(trace.columns["value"]) for trace in traces)
    samples = length if metric.kind == "frames" else None
    return [
        Value(workload, full, unit, values[full], samples)
        for full, unit in units.items()
        if not math.isnan(values[full])
    ], traces


def _frames(
    name: str, metric: Metric, captures: list[Columns]
) -> tuple[dict[str, float], list[Trace]]:
    source, per_ms = metric.source, FRAME_UNITS[metric.unit]
    assert isinstance(source, TraceSource)
    times = []
    for columns in captures:
        own = columns["value"]
        if source.stamps:
            own = from_stamps(own)
        own = own / per_ms
        check_frames(own, unit=metric.unit, per_unit=per_ms)
        times.append(own)
    limit = None if metric.limit is None else 1000 * metric.limit
    summary = asdict(summarise_frames(times, limit=limit))
    values = {f"{name}/{part}": summary[field] for part, field in _OF_FRAMES.items()}
    return values, [Trace(name, "frames", "ms", {"value": own}) for own in times]


def _soak(
    name: str, metric: Metric, captures: list[Columns]
) -> tuple[dict[str, float], list[Trace]]:
    source = metric.source
    assert isinstance(source, TraceSource)
    if len(captures) > 1:
        raise TraceError(f"{len(captures)} files fit, and a soak is a single one")
    (columns,) = captures
    value = columns["value"]
    interval = 1.0 if source.interval is None else source.interval
    time = columns.get("time", np.arange(len(value)) * interval)
    check_soak(time, value)
    summary = summarise_soak(time, value, metric.better)
    values = {
        "peak": summary.peak,
        "mean": summary.mean,
        "floor": summary.floor,
        "last-quarter": summary.last_quarter,
        "sustained": 100 * summary.sustained,
        "onset": summary.onset,
        "depth": 100 * summary.depth,
        "recovery": summary.recovery,
    }
    if source.second is not None:
        values[f"{source.second}-mean"] = float(columns["second"].mean())
        values[f"{source.second}-max"] = float(columns["second"].max())
    kept = {"value": value, "time": time} | {k: v for k, v in columns.items() if k == "second"}
    return {f"{name}/{part}": v for part, v in values.items()}, [
        Trace(name, "soak", metric.unit, kept)
    ]
