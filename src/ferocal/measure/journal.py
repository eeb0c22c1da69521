"""Endings of runs that the ledger could not take, kept beside it until it can."""

from __future__ import annotations

import base64
import hashlib
import itertools
import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from ferocal.errors import BeyondLedgerError, LedgerError
from ferocal.ledger.reading.runs import metrics_of_run
from ferocal.ledger.records import Absence, Ending, Outcome, Value
from ferocal.ledger.writing.runs import Recorder
from ferocal.terms.files import replace_file
from ferocal.traces.capture import Trace
from ferocal.traces.packing import pack_trace, unpack_columns

JOURNAL_FILE = "measure.journal"


@contextmanager
def journaled(recorder: Recorder, ending: Ending) -> Iterator[None]:
    """Keep the ending of the run that was begun last in a file if the ledger does not take it.

    What was kept of it before is not needed once it does.

    Raises
    ------
    LedgerError
        When it does not; the message says whether the file was written.
    """
    try:
        yield
        _journal(recorder).unlink(missing_ok=True)
    except KeyboardInterrupt:
        keep_ending(recorder, ending)
        raise
    except LedgerError as error:
        try:
            path = keep_ending(recorder, ending)
        except OSError as problem:
            raise LedgerError(
                f"{error}; the result of the run in progress is lost: {problem.strerror}"
            ) from error
        raise LedgerError(
            f"{error}; the result of the run in progress is in {path.name}, which the next "
            "`ferocal measure` takes in"
        ) from error


def take_in(recorder: Recorder) -> str | None:
    """Record the ending that an earlier session could only keep; what is to be told of it.

    One that is damaged, or of a run that the ledger does not have, is kept under another name, and
    stops nothing.

    Raises
    ------
    LedgerError
        When the ledger still does not take it.
    """
    path = _journal(recorder)
    if not path.exists():
        return None
    try:
        taken = _record(recorder, *_read(path))
    except (_JournalError, BeyondLedgerError, OSError) as error:
        kept = set_aside(path)
        return (
            f"{path.name} {error}; it is kept as {kept.name}, and nothing of it is recorded. If "
            "that run counts, bring back the ledger that it is of, and the file under its old name"
        )
    path.unlink()
    return "recorded now: the result of a run that could not be recorded before" if taken else None


class _JournalError(Exception):
    """A journal that is not that of a run of this ledger."""


def _read(path: Path) -> tuple[str, Ending]:
    """The run and the ending in a journal."""
    try:
        document = json.loads(path.read_bytes())
        if document.pop("digest") != _digest(document):
            raise _JournalError("was damaged: its digest does not fit")
        return _unpack(document)
    # Whatever else may have been written there.
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError, LedgerError):
        raise _JournalError("cannot be read as the result of a run") from None


def _digest(document: dict[str, Any]) -> str:
    content = json.dumps(document, sort_keys=True).encode()
    return hashlib.blake2b(content, digest_size=16).hexdigest()


def set_aside(path: Path) -> Path:
    """Give a file a name under which nothing looks for it; the new one."""
    names = (path.with_name(f"{path.name}.{number}") for number in itertools.count(1))
    return path.rename(next(name for name in names if not name.exists()))


def _record(recorder: Recorder, uid: str, ending: Ending) -> bool:
    """Record an ending; whether it was not recorded before."""
    found = recorder.ledger.rows("SELECT id, outcome FROM run WHERE uid = ?", [uid])
    if not found:
        raise _JournalError("is of a run that this ledger does not have")
    ((run_id, outcome),) = found
    # It may have been recorded after all, just before Ferocal was ended.
    known = metrics_of_run(recorder.ledger, run_id)
    fresh = replace(
        ending,
        values=[value for value in ending.values if value.metric not in known],
        absences=[gap for gap in ending.absences if gap.metric not in known],
    )
    taken: bool = outcome in (Outcome.RUNNING, Outcome.INTERRUPTED)
    if taken and known:
        recorder.complete_run(run_id, fresh)
    elif taken:
        recorder.end_run(run_id, fresh)
    return taken


def _journal(recorder: Recorder) -> Path:
    return recorder.ledger.path.with_name(JOURNAL_FILE)


def keep_ending(recorder: Recorder, ending: Ending) -> Path:
    """Keep the ending of the run begun last in the journal, whole or not at all.

    Raises
    ------
    OSError
        When it cannot be written.
    """
    path = _journal(recorder)
    document = json.loads(json.dumps({"run": recorder.begun, **_pack(ending)}))
    replace_file(path, json.dumps({**document, "digest": _digest(document)}), durable=True)
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
