"""Traces as `ferocal export` writes them: Parquet files that name the run they are of."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from ferocal.errors import IntakeError, LedgerError
from ferocal.intake.placed import Place
from ferocal.traces.capture import Trace
from ferocal.traces.packing import CONTEXT_KEY, unpack_columns


@dataclass(frozen=True)
class Exported:
    """A trace from another ledger; ``number`` counts the captures of a metric in a run."""

    path: Path
    place: Place
    number: int
    trace: Trace


def read_exported(path: Path) -> Exported | None:
    """A trace that was exported, None if a file is none.

    Raises
    ------
    IntakeError
        When the file has a context that is not understood, or is damaged behind it.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    if path.suffix.lower() != ".parquet":
        return None
    try:
        stored = (pq.read_schema(path).metadata or {}).get(CONTEXT_KEY)
    except (pa.ArrowException, OSError):
        return None  # reading it as a table says what is wrong
    if stored is None:
        return None
    try:
        context = json.loads(stored)
        kind, unit, number = (context.pop(name) for name in ("kind", "unit", "number"))
        place = Place(**context)
        columns = unpack_columns(path.read_bytes())
        return Exported(path, place, number, Trace(place.metric, kind, unit, columns))
    except (ValueError, KeyError, TypeError, LedgerError) as error:
        raise IntakeError(
            f"{path}: is not a trace as `ferocal export` writes it: {error}"
        ) from None
