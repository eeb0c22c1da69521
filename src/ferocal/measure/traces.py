"""Traces of a run: found in its files or its output, read, and summarised."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from ferocal.bench.commands import expand
from ferocal.bench.execution import READ_LIMIT, Completed
from ferocal.bench.limits import OddFileError, check_file, check_settled
from ferocal.bench.machine import Machine
from ferocal.intake.trace_files import check_captures, located, read_capture, read_output
from ferocal.ledger.records import Value
from ferocal.study.metrics import Metric
from ferocal.study.sources import TraceSource
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.traces.capture import CaptureColumns, Trace, TraceError
from ferocal.traces.kinds import summarise_trace

# File systems keep times in ticks of a few milliseconds.
_TICK_NS = 20_000_000


@dataclass(frozen=True)
class Written:
    """The files that a run writes on its bench.

    ``began`` is when the run began (ns), by pattern and as the file system of the bench has it;
    ``files`` are those that were written, once they are fetched, or why they cannot be read.
    """

    machine: Machine
    began: Mapping[str, int]
    patterns: tuple[str, ...]
    files: dict[str, list[Path] | str]

    @classmethod
    def by(cls, machine: Machine, metrics: Mapping[str, Metric]) -> Written:
        """The files of the traces of some metrics, before the run."""
        sources = [metric.source for metric in metrics.values()]
        named = [s.file for s in sources if isinstance(s, TraceSource) and s.file is not None]
        patterns = tuple(expand(file, machine.place) for file in named)
        return cls(machine, machine.times_of(patterns), patterns, {})

    def fetch(self) -> None:
        """Fetch what was written, once the run has ended."""
        for pattern in self.patterns:
            try:
                self.files[pattern] = self.machine.gather(pattern)
            except OddFileError as error:
                self.files[pattern] = str(error)

    def find(self, file: str) -> list[Path]:
        """The files of this run that a source names.

        Raises
        ------
        TraceError
            When there are none, one is from before, or they cannot be read.
        """
        pattern = expand(file, self.machine.place)
        start = self.began.get(pattern)
        since = None if start is None else start - _TICK_NS
        found = self.files[pattern]
        if isinstance(found, str):
            raise TraceError(found)
        return check_captures(found, pattern, since)


def extract_traces(
    workload: str,
    name: str,
    metric: Metric,
    completed: Completed,
    written: Written,
) -> tuple[list[Value], list[Trace]]:
    """The values that are computed of the traces of one metric, and the traces.

    Files from before the run are refused.

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
        paths = written.find(source.file)
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
