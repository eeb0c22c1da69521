"""What ``ferocal history --json`` prints."""

from __future__ import annotations

from typing import Any

from ferocal.documents.objects.base import Object, Text, key


class FileChangeObject(Object):
    """A value of the study file that was changed."""

    path: str = key("the way to it, such as `study.margin`")
    changed_from: Text = key("what it was, null where it was not there", "before")
    changed_to: Text = key("what it is since, null where it is not there any more", "now")


class FileVersionObject(Object):
    """A version of the study file."""

    number: int = key("which version it is, from 1")
    since: Text = key("when it was first used, ISO 8601; null for that of today, if unused")
    text: str = key("the whole file")
    changes: list[FileChangeObject] = key("what was changed from the version before")


def _of(name: str) -> Any:
    return lambda entry: getattr(entry.item, name, None)


class EntryObject(Object):
    """Something that happened."""

    recorded_at: str = key("when, ISO 8601", "at")
    kind: str = key("`measure`, `enter`, `load`, `exclude`, `restore`, `correct` or `note`")
    id: str | None = key("of a session, what `ferocal exclude --import` takes", _of("id"))
    operator: str | None = key("who did it, if stated", _of("operator"))
    source: str | None = key("where it is from", _of("source"))
    file_version: int | None = key(
        "the version of the study file that was used", lambda entry: entry.file or None
    )
    visit_count: int | None = key("visits that were made", _of("visits"))
    run_count: int | None = key(
        "runs that were taken", lambda entry: entry.item.runs if entry.is_session else None
    )
    imported_as: dict[str, Any] | None = key("how a table was understood", _of("imported_as"))
    set_aside: list[tuple[str, str]] = key(
        "visits whose checks failed, and why",
        lambda entry: list(getattr(entry.item, "set_aside", ())),
    )
    run_ids: list[str] = key(
        "runs that were marked or corrected",
        lambda entry: [] if entry.is_session or entry.kind == "note" else list(entry.item.runs),
    )
    why: str | None = key("the reason that was given", _of("reason"))
    text: str | None = key("of a note, what it says", _of("text"))


class HistoryObject(Object):
    """`ferocal history --json`."""

    question: str = key("the question of the study")
    history: list[EntryObject] = key("what happened, in order of time", "entries")
    file_versions: list[FileVersionObject] = key(
        "the versions of the study file, in order of their first use", "versions"
    )
