"""Readings and traces written into files for others."""

from __future__ import annotations

import re
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


def csv_text(frame: pd.DataFrame) -> bytes:
    """A table as CSV (RFC 4180), whose texts a spreadsheet does not run."""
    return str(_guarded(frame).to_csv(index=False)).encode()


def _guarded(frame: pd.DataFrame) -> pd.DataFrame:
    """A table whose texts a spreadsheet does not run."""
    texts = frame.select_dtypes(include=["object", "string"]).columns
    safe = frame.copy(deep=False)
    for name in texts:
        safe[name] = [guarded(v) if isinstance(v, str) else v for v in frame[name]]
    safe.columns = [guarded(str(name)) for name in frame.columns]
    return safe


def _write_csv(frame: pd.DataFrame, path: Path) -> None:
    _guarded(frame).to_csv(path, index=False)


def _write_json(frame: pd.DataFrame, path: Path) -> None:
    rows = frame.astype(object).where(frame.notna(), None).to_dict("records")
    path.write_text(dumps({"readings": rows}), encoding="utf-8")


def _write_parquet(frame: pd.DataFrame, path: Path) -> None:
    frame.to_parquet(path, index=False)


def _write_openmetrics(frame: pd.DataFrame, path: Path) -> None:
    """Every reading that counts as a sample with its time (OpenMetrics 1.0, text format)."""
    import pandas as pd

    lines = ["# TYPE ferocal_reading gauge", "# HELP ferocal_reading Readings of a study."]
    numbers = frame[frame["value"].notna() & frame["excluded"].isna()] if len(frame) else frame
    labels = [n for n in _LABELS if n in numbers.columns]
    labels += [n for n in numbers.columns if str(n).startswith("factor:")]
    for row in numbers.to_dict("records"):
        named = ",".join(
            f'{re.sub("[^a-zA-Z0-9_]", "_", str(name))}="{_escaped(row[name])}"'
            for name in labels
            if not pd.isna(row[name])
        )
        time = row["started_at"]
        at = "" if pd.isna(time) else f" {pd.Timestamp(time).timestamp():.3f}"
        lines.append(f"ferocal_reading{{{named}}} {float(row['value'])!r}{at}")
    path.write_text("\n".join([*lines, "# EOF"]) + "\n", encoding="utf-8")


# What tells one series of readings from another.
_LABELS = ("bench", "configuration", "workload", "metric", "unit", "round", "visit", "run")


def _escaped(value: object) -> str:
    return str(value).replace("\\", r"\\").replace('"', r"\"").replace("\n", r"\n")


# By the ending of the file's name.
WRITERS: dict[str, Callable[[pd.DataFrame, Path], None]] = {
    ".csv": _write_csv,
    ".json": _write_json,
    ".parquet": _write_parquet,
    ".openmetrics": _write_openmetrics,
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
