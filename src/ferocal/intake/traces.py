"""Traces from files and from output, as columns of numbers."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.delimited import find_delimiter
from ferocal.study.metrics import TraceSource

if TYPE_CHECKING:
    import pandas as pd

Columns = dict[str, np.ndarray]


class TraceError(ValueError):
    """A trace that cannot be read, or that cannot be true."""


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
    files = [plain] if plain.is_file() else sorted(directory.glob(pattern))
    if not files:
        raise TraceError(f"the workload wrote no {pattern}")
    for file in files:
        if since_ns is not None and file.stat().st_mtime_ns < since_ns:
            raise TraceError(f"{file.name} is from before this run: the workload did not write it")
    return files


def read_file(path: Path, source: TraceSource) -> Columns:
    """The columns of a trace in a file: Parquet by its name, else CSV, or a number per line.

    Raises
    ------
    TraceError
        When it cannot be read, or misses a column; what would be right is told.
    """
    import pandas as pd
    import pyarrow as pa

    wanted = _wanted(source)
    try:
        if path.suffix == ".parquet":
            return _columns(pd.read_parquet(path, columns=wanted or None), source, path.name)
        return _read_text(path, source, path.name)
    except (OSError, ValueError, pa.ArrowException) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{path.name}: cannot be read: {_first_line(error)}") from None


def read_output(text: str, source: TraceSource) -> Columns:
    """The columns of a trace in the output of a run; errors as of `read_file`."""
    if not text.strip():
        raise TraceError("the output is empty")
    try:
        return _read_text(io.StringIO(text), source, "the output")
    except ValueError as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"the output cannot be read: {_first_line(error)}") from None


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0] if str(error) else type(error).__name__


def _wanted(source: TraceSource) -> list[str]:
    return [name for name in (source.column, source.time, source.second) if name is not None]


def _read_text(file: Path | io.StringIO, source: TraceSource, name: str) -> Columns:
    """Numbers of a text: a table with a header, or one number per line."""
    import pandas as pd

    if source.column is None:
        frame = pd.read_csv(file, header=None, names=["value"], comment="#", skip_blank_lines=True)
        return _columns(frame, source.model_copy(update={"column": "value"}), name)
    return _columns(pd.read_csv(file, sep=find_delimiter(_header(file))), source, name)


def _header(file: Path | io.StringIO) -> str:
    if isinstance(file, io.StringIO):
        return file.getvalue().partition("\n")[0]
    with file.open(encoding="utf-8", errors="replace") as opened:
        return opened.readline()


def _columns(frame: pd.DataFrame, source: TraceSource, name: str) -> Columns:
    """The wanted columns of a table as numbers, without those that are warm-up."""
    import pandas as pd

    roles = {"value": source.column, "time": source.time, "second": source.second}
    found: Columns = {}
    for role, column in roles.items():
        if column is None:
            continue
        if column not in frame.columns:
            known = ", ".join(map(str, frame.columns[:12]))
            raise TraceError(f'{name}: no column "{column}"; there are {known}')
        numbers = pd.to_numeric(frame[column], errors="coerce").to_numpy(dtype=float)
        wrong = np.isnan(numbers)
        if wrong.any():
            row = int(np.argmax(wrong))
            raise TraceError(
                f"{name}: row {row + 1} of {column} is {frame[column].iloc[row]!r}, not a number"
            )
        found[role] = numbers[source.skip :]
    return found


def read_captures(files: Sequence[Path], source: TraceSource) -> list[Columns]:
    """The columns of every file; errors as of `read_file`."""
    return [read_file(file, source) for file in files]
