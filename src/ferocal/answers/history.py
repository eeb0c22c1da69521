"""What happened to a study: who brought what, under which study file, and what was changed."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from typing import Any

from ferocal.errors import UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.additions import read_notes
from ferocal.ledger.reading.history import ChangeRow, SessionRow, read_changes, read_sessions
from ferocal.ledger.records import Note
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

_NOWHERE = object()


@dataclass(frozen=True)
class FileChange:
    """A value of the study file that was changed: its path, and what it was and is; "" for none."""

    path: str
    before: str
    now: str


@dataclass(frozen=True)
class FileVersion:
    """A text of the study file: its number, since when it was used, and what was changed in it.

    That of today has no time unless something was recorded under it.
    """

    number: int
    since: str
    text: str
    changes: tuple[FileChange, ...]


@dataclass(frozen=True)
class Entry:
    """Something that happened, and under which version of the study file; 0 where unknown.

    ``kind`` is "measure", "enter" or "load" of a session, "exclude", "restore" or "correct" of a
    change, or "note".
    """

    at: str
    kind: str
    item: SessionRow | ChangeRow | Note
    file: int = 0

    @property
    def is_session(self) -> bool:
        """Whether something was recorded."""
        return self.kind in ("measure", "enter", "load")


@dataclass(frozen=True)
class History:
    """What happened to a study, in order of time, and the versions of its file."""

    question: str
    entries: tuple[Entry, ...]
    versions: tuple[FileVersion, ...]


def make_history(study: Study) -> History:
    """Everything that the ledger has recorded of a study.

    Raises
    ------
    LedgerError
        When the ledger is missing or cannot be read.
    """
    with read_ledger(study.directory) as ledger:
        sessions, changes = read_sessions(ledger), read_changes(ledger)
        notes = read_notes(ledger)
    versions = list(_versions(sessions, study.kept_text))
    numbers = {version.text: version.number for version in versions}
    entries = [Entry(s.at, s.kind, s, numbers.get(s.study_file or "", 0)) for s in sessions]
    entries += [Entry(change.at, change.kind, change) for change in changes]
    entries += [Entry(at, "note", note) for at, note in notes]
    ordered = sorted(entries, key=lambda entry: entry.at)
    return History(study.head.question, tuple(ordered), tuple(versions))


def _versions(sessions: list[SessionRow], today: str) -> Iterator[FileVersion]:
    """The texts of the study file in order of their first use, that of today last."""
    texts = [(s.study_file, s.at) for s in sessions if s.study_file is not None]
    seen: dict[str, str] = {}
    for text, at in texts:
        seen.setdefault(text, at)
    seen.setdefault(today, "")
    before: str | None = None
    for number, (text, at) in enumerate(seen.items(), 1):
        changes = () if before is None else tuple(find_changes(before, text))
        yield FileVersion(number, at, text, changes)
        before = text


def find_changes(before: str, now: str) -> Iterator[FileChange]:
    """The values that differ between two texts of a study file."""
    old, new = (_flat(tomllib.loads(text)) for text in (before, now))
    for path in dict.fromkeys([*old, *new]):
        was, is_now = old.get(path, _NOWHERE), new.get(path, _NOWHERE)
        if was != is_now:
            yield FileChange(path, _shown(was), _shown(is_now))


def _flat(value: Mapping[str, Any], above: str = "") -> dict[str, Any]:
    """The values of a document by their paths."""
    found: dict[str, Any] = {}
    for key, item in value.items():
        path = f"{above}.{key}" if above else key
        if isinstance(item, Mapping) and item:
            found |= _flat(item, path)
        else:
            found[path] = item
    return found


def _shown(value: Any) -> str:
    return "" if value is _NOWHERE else str(value)


def file_at(history: History, moment: str) -> FileVersion:
    """The study file as it was used at a moment (ISO 8601, or its beginning).

    Raises
    ------
    UsageError
        When nothing was recorded by then.
    """
    used = [e for e in history.entries if e.file and e.at[: len(moment)] <= moment]
    if not used:
        first = next((v.since[:10] for v in history.versions if v.since), "")
        told = f"; the first session was on {first}" if first else ""
        raise UsageError(f"no study file is kept of {moment}{told}")
    return next(v for v in history.versions if v.number == used[-1].file)
