"""Traces from files and from output, as columns of numbers by their role."""

from __future__ import annotations

import glob
import io
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.formats import format_of, numbers_in_text
from ferocal.study.sources import TraceSource
from ferocal.terms.wording import first_line
from ferocal.traces.capture import CaptureColumns, TraceError


def find_captures(directory: Path, pattern: str, *, since_ns: int | None = None) -> list[Path]:
    """Files of a run, in order of name.

    Parameters
    ----------
    directory, pattern
        Where they are, and their name or a pattern of names below it.
    since_ns
        Files that were last written before this time (ns since the epoch) are refused:
        they are from an earlier run.

    Raises
    ------
    TraceError
        When there are none, or one is from before.
    """
    plain = directory / pattern
    # Path.glob raises errors for absolute patterns, and for ** amid a name.
    found = glob.glob(pattern, root_dir=directory, recursive=True, include_hidden=True)  # noqa: PTH207
    files = [plain] if plain.is_file() else sorted(directory / name for name in found)
    if not files:
        raise TraceError(f"the workload wrote no {pattern}")
    for file in files:
        if since_ns is not None and file.stat().st_mtime_ns < since_ns:
            raise TraceError(f"{file.name} is from before this run: the workload did not write it")
    return files


def read_capture(path: Path, source: TraceSource) -> CaptureColumns:
    """The columns of a trace in a file; what no format is named by is read as text.

    Raises
    ------
    TraceError
        When it cannot be read, or misses a column; the message says what would be right.
    """
    import pyarrow as pa

    known = format_of(path)
    read = numbers_in_text if known is None else known.read_columns
    try:
        return _by_role(read(path, wanted_columns(source)), source)
    except IntakeError as error:
        raise TraceError(str(error)) from None
    except pa.ArrowException:
        text = f"{path.name}: is not a whole file of its format, or lacks a column"
        raise TraceError(text) from None
    except (OSError, ValueError) as error:
        raise TraceError(f"{path.name}: {first_line(error)}") from None


def read_output(text: str, source: TraceSource) -> CaptureColumns:
    """The columns of a trace in the output of a run; errors as of `read_capture`."""
    if not text.strip():
        raise TraceError("the output is empty")
    try:
        return _by_role(numbers_in_text(io.StringIO(text), wanted_columns(source)), source)
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


def wanted_columns(source: TraceSource) -> list[str]:
    """The names of the columns that hold the trace; empty for a number per line."""
    return list(source.columns.values())


def _by_role(columns: Mapping[str, np.ndarray], source: TraceSource) -> CaptureColumns:
    """The columns by what they hold, without the numbers that are warm-up."""
    if source.column is None:
        return {"value": next(iter(columns.values()))[source.skip :]}
    return {role: columns[name][source.skip :] for role, name in source.columns.items()}
