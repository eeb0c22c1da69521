"""Endings of runs that the ledger could not take, kept beside it until it can."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from ferocal.errors import FerocalError, LedgerError
from ferocal.ledger import schema
from ferocal.ledger.files import replace_file
from ferocal.ledger.records import Absence, Ending, Outcome, Value
from ferocal.ledger.writing.runs import Recorder
from ferocal.traces.capture import Trace
from ferocal.traces.packing import pack_trace, unpack_columns

JOURNAL_FILE = "measure.journal"


@contextmanager
def journaled(recorder: Recorder, ending: Ending) -> Iterator[None]:
    """Keep the ending of the run that was begun last in a file if the ledger does not take it.

    Raises
    ------
    LedgerError
        When it does not; the message says whether the file was written.
    """
    try:
        yield
    except KeyboardInterrupt:
        _keep(recorder, ending)
        raise
    except LedgerError as error:
        try:
            path = _keep(recorder, ending)
        except OSError as problem:
            raise LedgerError(
                f"{error}; the result of the run in progress is lost: {problem.strerror}"
            ) from error
        raise LedgerError(
            f"{error}; the result of the run in progress is in {path.name}, which the next "
            "`ferocal measure` takes in"
        ) from error


def take_in(recorder: Recorder) -> bool:
    """Record the ending that an earlier session could only keep; whether there was one.

    Raises
    ------
    FerocalError
        When the file is damaged, or is not of this ledger.
    LedgerError
        When the ledger still does not take it.
    """
    path = recorder.ledger.path.with_name(JOURNAL_FILE)
    if not path.exists():
        return False
    try:
        uid, ending = _unpack(json.loads(path.read_bytes()))
    except (OSError, ValueError, KeyError, TypeError, AttributeError, LedgerError) as error:
        raise FerocalError(
            f"{path}: cannot be read as the result of a run: {error}; move it away to go on"
        ) from None
    run = schema.run.c
    found = recorder.ledger.rows(sa.select(run.id, run.outcome).where(run.uid == uid))
    if not found:
        raise FerocalError(f"{path}: is of a run that the ledger does not have; move it away")
    ((run_id, outcome),) = found
    # It may have been recorded after all, just before Ferocal was ended.
    taken: bool = outcome in (Outcome.RUNNING, Outcome.INTERRUPTED)
    if taken:
        recorder.end_run(run_id, ending)
    path.unlink()
    return taken


def _keep(recorder: Recorder, ending: Ending) -> Path:
    """Write an ending whole or not at all; errors of the file system are raised."""
    path = recorder.ledger.path.with_name(JOURNAL_FILE)
    replace_file(path, json.dumps({"run": recorder.begun, **_pack(ending)}), durable=True)
    return path


def _pack(ending: Ending) -> dict[str, Any]:
    traces = [pack_trace(trace, number) for number, trace in enumerate(ending.traces, 1)]
    return {
        **asdict(replace(ending, traces=(), streams={})),
        "traces": [{**trace, "content": _text(trace["content"])} for trace in traces],
        "streams": {name: [_text(kept), size] for name, (kept, size) in ending.streams.items()},
    }


def _unpack(document: dict[str, Any]) -> tuple[str, Ending]:
    fields = dict(document)
    uid = fields.pop("run")
    fields["outcome"] = Outcome(fields["outcome"])
    fields["values"] = [Value(**value) for value in fields["values"]]
    fields["absences"] = [Absence(**absence) for absence in fields["absences"]]
    fields["traces"] = [
        Trace(kept["metric"], kept["kind"], kept["unit"], unpack_columns(_bytes(kept["content"])))
        for kept in fields["traces"]
    ]
    streams = fields["streams"].items()
    fields["streams"] = {name: (_bytes(content), size) for name, (content, size) in streams}
    return uid, Ending(**fields)


def _text(content: bytes) -> str:
    return base64.b64encode(content).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text, validate=True)
