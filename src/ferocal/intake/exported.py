"""Traces as `ferocal export` writes them: Parquet files that name the run they are of."""

from __future__ import annotations

from dataclasses import fields
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, ConfigDict, Field, TypeAdapter, ValidationError

from ferocal.errors import IntakeError, LedgerError
from ferocal.intake.placed import ReadingPlace
from ferocal.study.refusals import why_refused
from ferocal.terms.bounds import MOST_ROUNDS, is_time
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import lacks_zone, zone_is_assumed
from ferocal.terms.wording import shortened
from ferocal.traces.capture import Trace
from ferocal.traces.packing import CONTEXT_KEY, unpack_columns


@dataclass(frozen=True)
class Exported:
    """A trace from another ledger; ``number`` counts the captures of a metric in a run."""

    path: Path
    place: ReadingPlace
    number: int
    trace: Trace


def _check_time(text: str) -> str:
    if text and (not is_time(text) or (lacks_zone(text) and not zone_is_assumed(text))):
        raise ValueError(f'"{shortened(text, 40)}" is not a time in ISO 8601 with its zone')
    return text


@dataclass(frozen=True, kw_only=True)
class _Context(ReadingPlace):
    """What a file says of the trace in it."""

    __pydantic_config__ = ConfigDict(extra="forbid")

    kind: str
    unit: str
    number: Annotated[int, Field(ge=1, le=2**31)]
    started_at: Annotated[str, AfterValidator(_check_time)] = ""
    round: Annotated[int, Field(ge=1, le=MOST_ROUNDS)] | None = None


_CONTEXT = TypeAdapter(_Context)


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
    except (pa.ArrowException, OSError, ValueError):
        return None  # reading it as a table says what is wrong
    if stored is None:
        return None
    try:
        context = _CONTEXT.validate_json(stored, strict=True)
        columns = unpack_columns(path.read_bytes())
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "its context"
        raise _refusal(path, f"{where}: {why_refused(first)}") from None
    except (OSError, LedgerError) as error:
        raise _refusal(path, str(error)) from None
    place = ReadingPlace(
        **{entry.name: getattr(context, entry.name) for entry in fields(ReadingPlace)}
    )
    trace = Trace(place.metric, context.kind, context.unit, columns)
    return Exported(path, place, context.number, trace)


def _refusal(path: Path, problem: str) -> IntakeError:
    return IntakeError(f"{path}: is not a trace as `ferocal export` writes it: {problem}")
