"""Which contents of ledgers were found whole, so that each is checked once only.

A content is known by the digest of the whole file: a bit that changes later makes it another
content, which is checked. That takes a thousandth of the time of a check.
"""

from __future__ import annotations

import hashlib
from contextlib import suppress
from pathlib import Path

from platformdirs import user_cache_path

from ferocal._version import __version__
from ferocal.ledger.files import replace_file

# Where a process has seen a file whole, and with which size and time of change.
_seen: set[tuple[Path, int, int, int]] = set()


def is_known(path: Path) -> bool:
    """Whether this process has found the file whole, and nobody has written it since."""
    return _key(path) in _seen


def was_whole(path: Path) -> bool:
    """Whether a content like this was found whole before, by whatever process."""
    with suppress(OSError, ValueError):  # whatever others may have left there
        if _memory(path).read_text(encoding="ascii") == _digest(path):
            _seen.add(_key(path))
            return True
    return False


def remember(path: Path) -> None:
    """Keep that the file was found whole; the caller holds it against being written."""
    _seen.add(_key(path))
    # Without a place to remember it is checked again the next time.
    with suppress(OSError):
        memory = _memory(path)
        memory.parent.mkdir(parents=True, exist_ok=True)
        replace_file(memory, _digest(path))


def _key(path: Path) -> tuple[Path, int, int, int]:
    facts = path.stat()
    return path.resolve(), facts.st_ino, facts.st_size, facts.st_mtime_ns


def _memory(path: Path) -> Path:
    name = hashlib.sha256(str(path.resolve()).encode("utf-8", "surrogateescape")).hexdigest()
    return user_cache_path("ferocal") / "whole" / name


def _digest(path: Path) -> str:
    """The digest of a file, with the version that checks: another one may find more."""
    with path.open("rb") as file:
        return f"{__version__} {hashlib.file_digest(file, hashlib.blake2b).hexdigest()}"
