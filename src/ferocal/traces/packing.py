"""Traces as the ledger keeps them: packed as Parquet."""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np

from ferocal.errors import LedgerError
from ferocal.traces.capture import Trace

# The key under which a file of a trace says of which run it is.
CONTEXT_KEY = b"ferocal"


# The readers of pages and of compressed ones raise whatever they stumble over.
_DAMAGED = (OSError, ValueError, LookupError, TypeError, NotImplementedError, RuntimeError)


def pack_trace(trace: Trace, number: int) -> dict[str, Any]:
    """A trace as a row of its table, without the run."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    buffer = io.BytesIO()
    pq.write_table(pa.table(dict(trace.columns)), buffer, compression="zstd")
    return {
        "metric": trace.metric,
        "number": number,
        "kind": trace.kind,
        "unit": trace.unit,
        "length": len(trace.columns["value"]),
        "content": buffer.getvalue(),
    }


def unpack_columns(content: bytes) -> dict[str, np.ndarray]:
    """The columns of a packed trace.

    Raises
    ------
    LedgerError
        When the content is no Parquet file, or not one of a trace.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with pq.ParquetFile(pa.BufferReader(content)) as file:
            names, length = file.schema_arrow.names, file.metadata.num_rows
            columns = {name: np.empty(length) for name in names}
            place = 0
            # Part by part: a trace of ten million frames is there only once.
            for batch in file.iter_batches(2**20, use_threads=False):
                for name in names:
                    columns[name][place : place + batch.num_rows] = _numbers(batch.column(name))
                place += batch.num_rows
    except (pa.ArrowException, *_DAMAGED):
        raise LedgerError("a trace is damaged: it is no whole Parquet file") from None
    if "value" not in columns:
        raise LedgerError(f'a trace has no column "value", but {", ".join(names[:8]) or "none"}')
    return columns


def _numbers(array: Any) -> np.ndarray:
    """The numbers of an array of Arrow; its method for that loads pandas first."""
    import pyarrow as pa

    kind = array.type
    if array.null_count or not (pa.types.is_floating(kind) or pa.types.is_integer(kind)):
        raise ValueError(f"{kind} with {array.null_count} nulls")
    values = array if kind == pa.float64() else array.cast(pa.float64())
    return np.frombuffer(values.buffers()[1], np.float64, len(values), 8 * values.offset)


def with_context(content: bytes, context: dict[str, Any]) -> bytes:
    """A trace as the ledger keeps it, with what is known of its run.

    Raises
    ------
    LedgerError
        When it is damaged.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    buffer = io.BytesIO()
    try:
        # Without threads: they would hold on to memory of Python when the process ends.
        with pq.ParquetFile(pa.BufferReader(content)) as file:
            table = file.read(use_threads=False)
    except (pa.ArrowException, *_DAMAGED):
        raise LedgerError("a trace is damaged: it is no whole Parquet file") from None
    table = table.replace_schema_metadata({CONTEXT_KEY: json.dumps(context)})
    pq.write_table(table, buffer, compression="zstd")
    return buffer.getvalue()
