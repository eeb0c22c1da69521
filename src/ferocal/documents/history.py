"""What happened to a study, one line each, and what was changed in its file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, cast

from ferocal.documents.blocks import Block, Document, Heading, make_table, next_steps, sentences
from ferocal.documents.numbers import reading_text
from ferocal.terms.wording import counted, shortened

if TYPE_CHECKING:
    from ferocal.answers.history import Entry, FileVersion, History
    from ferocal.ledger.reading.history import ChangeRow, SessionRow
    from ferocal.ledger.records import Note

_MOST = 16
_MOST_CHANGES = 6
_VERBS = {"measure": "measured", "enter": "entered", "load": "imported"}


def history_document(history: History, *, everything: bool = False) -> Document:
    """The latest entries, all if asked for, and what changed in the study file."""
    shown = history.entries if everything else history.entries[-_MOST:]
    earlier = len(history.entries) - len(shown)
    blocks: list[Block] = [sentences([_summary(history)])]
    rows = [_row(entry, whole=everything) for entry in shown]
    caption = f"{earlier} earlier; all: ferocal history --all" if earlier else ""
    blocks.append(make_table(("time, UTC", "id", "what", "by", "file"), rows, caption=caption))
    blocks += _changes(history, everything=everything)
    imports = [e.item for e in shown if e.kind in ("enter", "load")]
    if imports:
        (*_, last) = cast("list[SessionRow]", imports)
        command = f"ferocal exclude --import {last.id} --reason TEXT"
        blocks.append(next_steps(("exclude all of an import", command)))
    return Document(history.question, tuple(blocks))


def _summary(history: History) -> str:
    sessions = [cast("SessionRow", e.item) for e in history.entries if e.is_session]
    runs = sum(session.runs for session in sessions)
    kept = sum(bool(version.since) for version in history.versions)
    return (
        f"{counted(len(sessions), 'session')} with {counted(runs, 'run')}, under "
        f"{counted(kept, 'version')} of the study file"
    )


def _row(entry: Entry, *, whole: bool) -> list[str]:
    time = entry.at[:16].replace("T", " ")
    if entry.is_session:
        session = cast("SessionRow", entry.item)
        file = str(entry.file) if entry.file else "unknown"
        text = _session_text(session) + (_imported_as(session) if whole else "")
        return [time, session.id, text, session.operator or "", file]
    if entry.kind == "note":
        note = cast("Note", entry.item)
        return [time, "", f"noted on {note.subject}: {shortened(note.text, 50)}", "", ""]
    return [time, "", _change_text(cast("ChangeRow", entry.item)), "", ""]


def _imported_as(session: SessionRow) -> str:
    """How the columns of a table were understood, and what was agreed to."""
    if session.imported_as is None:
        return ""
    columns = [f"{name} is {role}" for name, role, _ in session.imported_as["columns"] if name]
    agreed = [f"{what}: {taken}" for what, taken in session.imported_as["doubts"]]
    return f"; imported as: {', '.join(columns)}" + (
        f"; agreed: {'; '.join(agreed)}" if agreed else ""
    )


def _session_text(session: SessionRow) -> str:
    text = (
        f"{_VERBS[session.kind]} {counted(session.runs, 'run')} in "
        f"{counted(session.visits, 'visit')}"
    )
    if session.kind == "load" and session.source:
        text += f" of {shortened(session.source, 40)}"
    if session.bench:
        text += f" on {session.bench}"
    for name, why in session.set_aside[:2]:
        text += f"; a visit to {name} was set aside ({shortened(why, 60)})"
    rest = len(session.set_aside) - 2
    return text + (f"; {counted(rest, 'visit')} more" if rest > 0 else "")


def _change_text(change: ChangeRow) -> str:
    runs = f"run {change.runs[0]}" if len(change.runs) == 1 else counted(len(change.runs), "run")
    if change.kind == "correct":
        assert change.before is not None and change.now is not None
        numbers = f"{reading_text(change.before)} to {reading_text(change.now)}"
        return f"corrected {change.what} of {runs} from {numbers}: {change.reason}"
    return f"{change.kind}d {runs}: {change.reason}"


def _changes(history: History, *, everything: bool) -> Iterator[Block]:
    """What was changed from one version of the study file to the next."""
    changed = [version for version in history.versions if version.changes]
    if not changed:
        return
    yield Heading("Study file")
    rows = []
    for version in changed:
        most = None if everything else _MOST_CHANGES
        for n, change in enumerate(version.changes[:most]):
            first = _version_text(version) if n == 0 else ""
            rows.append([first, change.path, _value(change.before), _value(change.now)])
        rest = len(version.changes) - len(version.changes[:most])
        if rest:
            rows.append(["", f"{rest} more: ferocal history --all", "", ""])
    yield make_table(("version", "key", "was", "is"), rows)


def _version_text(version: FileVersion) -> str:
    return (
        f"{version.number}, since {version.since[:10]}"
        if version.since
        else (f"{version.number}, not used yet")
    )


def _value(text: str) -> str:
    return shortened(text, 34) if text else "–"
