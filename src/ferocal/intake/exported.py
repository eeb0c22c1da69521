"""Traces as `ferocal export` writes them: Parquet files that tell of which run they are."""

from __future__ import annotations

import io
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ferocal.errors import IntakeError, LedgerError
from ferocal.intake.placed import Place
from ferocal.ledger.packing import unpack_columns
from ferocal.ledger.records import Trace

_CONTEXT = b"ferocal"


@dataclass(frozen=True)
class Exported:
    """A trace from another ledger; ``number`` counts the captures of a metric in a run."""

    path: Path
    place: Place
    number: int
    trace: Trace


def with_context(content: bytes, context: dict[str, Any]) -> bytes:
    """A trace as the ledger keeps it, with what is known of its run."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    table, buffer = pq.read_table(pa.BufferReader(content)), io.BytesIO()
    table = table.replace_schema_metadata({_CONTEXT: json.dumps(context)})
    pq.write_table(table, buffer, compression="zstd")
    return buffer.getvalue()


def read_exported(path: Path) -> Exported | None:
    """A trace that was exported, None if a file is none.

    Raises
    ------
    IntakeError
        When the file tells a context that is not understood, or is damaged behind it.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    if path.suffix.lower() != ".parquet":
        return None
    try:
        told = (pq.read_schema(path).metadata or {}).get(_CONTEXT)
    except (pa.ArrowException, OSError):
        return None  # reading it as a table tells what is wrong
    if told is None:
        return None
    try:
        context = json.loads(told)
        own = {name: context.pop(name) for name in ("kind", "unit", "number")}
        place = Place(**context)
        columns = unpack_columns(path.read_bytes())
        return Exported(
            path, place, own["number"], Trace(place.metric, own["kind"], own["unit"], columns)
        )
    except (ValueError, KeyError, TypeError, LedgerError) as error:
        raise IntakeError(f"{path}: is no trace as `ferocal export` writes it: {error}") from None
