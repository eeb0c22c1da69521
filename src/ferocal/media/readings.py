"""Readings and traces written into files for others."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.errors import FerocalError, UsageError
from ferocal.media.files import whole_file
from ferocal.media.json import dumps
from ferocal.terms.spreadsheets import guarded
from ferocal.traces.packing import with_context

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.answers.export import ExportedTrace


def _write_csv(frame: pd.DataFrame, path: Path) -> None:
    texts = frame.select_dtypes(include=["object", "string"]).columns
    safe = frame.copy(deep=False)
    for name in texts:
        safe[name] = [guarded(v) if isinstance(v, str) else v for v in frame[name]]
    safe.columns = [guarded(str(name)) for name in frame.columns]
    safe.to_csv(path, index=False)


def _write_json(frame: pd.DataFrame, path: Path) -> None:
    rows = frame.astype(object).where(frame.notna(), None).to_dict("records")
    path.write_text(dumps({"readings": rows}), encoding="utf-8")


def _write_parquet(frame: pd.DataFrame, path: Path) -> None:
    frame.to_parquet(path, index=False)


# By the ending of the file's name.
WRITERS: dict[str, Callable[[pd.DataFrame, Path], None]] = {
    ".csv": _write_csv,
    ".json": _write_json,
    ".parquet": _write_parquet,
}


def check_output(path: Path) -> None:
    """Check that the name of a file says one of the formats.

    Raises
    ------
    UsageError
        When it does not.
    """
    if path.suffix not in WRITERS:
        raise UsageError(f"{path}: written as {', '.join(WRITERS)}, by the name of the file")


def write_readings(frame: pd.DataFrame, path: Path, *, force: bool = False) -> None:
    """Write a long table of readings; a file that is there is replaced as a whole.

    Raises
    ------
    UsageError
        When the name of the file does not say one of the formats, or something else is there.
    FerocalError
        When the file cannot be written.
    """
    check_output(path)
    with whole_file(path, force=force) as partial:
        WRITERS[path.suffix](frame, partial)


def write_traces(traces: Iterable[ExportedTrace], folder: Path, *, force: bool = False) -> int:
    """Write every capture as a Parquet file that names its run; returns how many there are.

    Raises
    ------
    UsageError
        When a file of that name is there, and is no trace of ours.
    FerocalError
        When the folder cannot be written.
    """
    count = 0
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FerocalError(f"{folder}: cannot be written: {error.strerror}") from None
    for trace in traces:
        with whole_file(folder / trace.name, force=force) as partial:
            partial.write_bytes(with_context(trace.content, trace.context))
        count += 1
    return count
