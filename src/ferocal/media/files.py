"""Files that are written: whole or not at all, and never over what is not our own."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from ferocal.errors import FerocalError, UsageError
from ferocal.study.load import STUDY_FILE
from ferocal.terms.files import replacing
from ferocal.traces.packing import CONTEXT_KEY

# How much of a file is looked at to recognise it.
_LOOK = 4096
_DATABASE = b"SQLite format 3\x00"
MARK = "Ferocal"
# Columns that every export of readings has.
_EXPORT = (b"bench", b"configuration", b"workload", b"metric", b"value")


# Columns of the effects of a comparison.
_EFFECTS = (b"configuration", b"p_adjusted", b"verdict")


def _is_own_table(head: bytes, tail: bytes) -> bool:
    return any(all(name in head for name in names) for names in (_EXPORT, _EFFECTS))


# By the ending of a name, whether the beginning and the end of a file are those of our own.
_OWN: dict[str, Callable[[bytes, bytes], bool]] = {
    ".html": lambda head, tail: b'name="generator" content="Ferocal' in head,
    ".svg": lambda head, tail: MARK.encode() in head,
    ".png": lambda head, tail: head.startswith(b"\x89PNG") and MARK.encode() in head,
    ".pdf": lambda head, tail: head.startswith(b"%PDF") and MARK.encode() in head + tail,
    ".zip": lambda head, tail: tail.rpartition(b"ferocal bundle, sha256")[1] != b"",
    ".csv": _is_own_table,
    ".openmetrics": lambda head, tail: b"ferocal_reading" in head,
    ".xml": lambda head, tail: b"<!-- Ferocal -->" in head,
    ".json": lambda head, tail: b'"readings"' in head,
    ".parquet": lambda head, tail: (
        head.startswith(b"PAR1") and (CONTEXT_KEY in tail or all(name in tail for name in _EXPORT))
    ),
}


# What stands in the directory of a study, by the beginnings of names.
_OURS = (
    (STUDY_FILE, "a study file"),
    ("measure.lock", "the lock of a study"),
    ("measure.journal", "the result of a run"),
)


def check_target(path: Path, *, force: bool = False) -> None:
    """Refuse to write over what is not an output of Ferocal, unless with ``force``.

    Raises
    ------
    UsageError
        When something else is there; a ledger and a study file are not written over in any case.
    """
    if path.is_dir():
        raise UsageError(f"{path} is a directory; name a file")
    if not path.exists():
        return
    if not path.is_file():
        raise UsageError(f"{path} is not a regular file")
    head, tail = _ends(path)
    known = "a ledger or another database" if head.startswith(_DATABASE) else None
    what = next((what for name, what in _OURS if path.name.startswith(name)), known)
    if what is not None:
        raise UsageError(f"{path} is {what}, and is not written over: name another file")
    if force or not head:
        return
    own = _OWN.get(path.suffix.lower())
    if own is None or not own(head, tail):
        raise UsageError(
            f"{path} exists and was not written by Ferocal: name another file, or use --force"
        )


def _ends(path: Path) -> tuple[bytes, bytes]:
    try:
        with path.open("rb") as file:
            head = file.read(_LOOK)
            file.seek(max(0, file.seek(0, os.SEEK_END) - 16 * _LOOK))
            return head, file.read()
    except OSError as error:
        raise UsageError(f"{path}: cannot be read: {error.strerror}") from None


@contextmanager
def whole_file(path: Path, *, force: bool = False) -> Iterator[Path]:
    """A new file, which takes the place of a target when all of it is written (`replacing`).

    Raises
    ------
    UsageError
        When the target is not to be written over (`check_target`).
    FerocalError
        When it cannot be written.
    """
    check_target(path, force=force)
    try:
        with replacing(path) as partial:
            yield partial
    except OSError as error:
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None
