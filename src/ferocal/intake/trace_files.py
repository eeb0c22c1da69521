"""Traces from files and from output, as columns of numbers by their role."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.formats import format_of
from ferocal.intake.trace_roles import is_plausible
from ferocal.intake.trace_text import Decimal, NumberColumns, TextForm, read_numbers
from ferocal.study.metrics import Metric
from ferocal.study.sources import TraceSource
from ferocal.terms.wording import first_line
from ferocal.traces.capture import CaptureColumns, TraceError


def check_captures(files: list[Path], pattern: str, since_ns: int | None) -> list[Path]:
    """The files that a pattern names, if there are any and all are of this run.

    Those that were last written before ``since_ns`` (since the epoch) are from an earlier one.

    Raises
    ------
    TraceError
        When there are none, or one is from before.
    """
    if not files:
        raise TraceError(f"the workload wrote no {pattern}")
    for file in files:
        if since_ns is not None and file.stat().st_mtime_ns < since_ns:
            raise TraceError(f"{file.name} is from before this run: the workload did not write it")
    return files


def read_capture(path: Path, metric: Metric) -> CaptureColumns:
    """The columns of a trace in a file, as the source of the metric names them.

    Raises
    ------
    TraceError
        As of `read_columns`, with the name of the file.
    """
    try:
        return _as_named(*read_columns(path, _wanted(metric)), metric)
    except TraceError as error:
        raise TraceError(f"{path.name}: {error}") from None


def read_columns(
    path: Path, wanted: Sequence[str], decimal: Decimal | None = None
) -> tuple[NumberColumns, TextForm | None]:
    """Columns of numbers in a file, and how these are written, None where it is no text.

    What no format is named by is read as text. Without any wanted all that are numbers.

    Raises
    ------
    TraceError
        When it cannot be read, or misses a column; the message says what would be right.
    """
    import pyarrow as pa

    known = format_of(path)
    try:
        if known is not None and known.read_columns is not None:
            return known.read_columns(path, wanted), None
        return read_numbers(path, wanted, decimal)
    except IntakeError as error:
        raise TraceError(str(error).removeprefix(f"{path}: ")) from None
    except pa.ArrowException:
        raise TraceError("is not a whole file of its format, or lacks a column") from None
    except (OSError, ValueError) as error:
        raise TraceError(first_line(error)) from None


def read_output(text: str, metric: Metric) -> CaptureColumns:
    """The columns of a trace in the output of a run; errors as of `read_capture`."""
    if not text.strip():
        raise TraceError("the output is empty")
    try:
        return _as_named(*read_numbers(io.StringIO(text), _wanted(metric)), metric)
    except ValueError as error:
        raise TraceError(f"the output: {first_line(error)}") from None


def located(error: TraceError, files: Sequence[object], source: TraceSource) -> str:
    """What is wrong with captures: in which file, row and column, as far as that is known."""
    known = error.capture is not None and error.capture < len(files)
    named = [files[error.capture or 0]] if known else files
    where = [", ".join(map(str, named))]
    if error.row is not None:
        word = "line" if source.column is None else "row"
        where.append(f"{word} {error.row + 1 + source.skip}")
        where += filter(None, [source.columns.get(error.role)])
    return f"{', '.join(where)}: {error}"


def _wanted(metric: Metric) -> list[str]:
    assert isinstance(metric.source, TraceSource)
    return list(metric.source.columns.values())


def _as_named(columns: NumberColumns, form: TextForm | None, metric: Metric) -> CaptureColumns:
    """The columns as a study file names them, without the numbers that are warm-up.

    Nothing is recognised here: it is the study that says what its workloads write.
    """
    source = metric.source
    assert isinstance(source, TraceSource)
    values = columns.get(source.column or next(iter(columns)), np.zeros(0))
    frames = metric.kind == "frames" and is_plausible(values, metric.unit)
    if form is not None and form.doubtful and not frames:
        raise TraceError(
            "its numbers may have a comma between thousands or as decimal sign; write them with a "
            "point"
        )
    if source.column is None:
        if len(columns) != 1:
            known = ", ".join(list(columns)[:12]) or "none of numbers"
            raise TraceError(
                f"several columns ({known}): name the one with the values, column = NAME"
            )
        if form is not None and form.header:
            raise TraceError(f"line 1: {next(iter(columns))!r} is not a number")
        return {"value": next(iter(columns.values()))[source.skip :]}
    return {role: columns[name][source.skip :] for role, name in source.columns.items()}
