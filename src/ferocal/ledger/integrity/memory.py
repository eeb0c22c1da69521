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

# A file with its number, size and time of change: while these stay, so does its content.
Content = tuple[Path, int, int, int]
# What this process has seen whole.
_seen: set[Content] = set()


def content_of(path: Path) -> Content:
    """What tells one content of a file from another, as long as nobody means to deceive."""
    facts = path.stat()
    return path.resolve(), facts.st_ino, facts.st_size, facts.st_mtime_ns


def is_known(path: Path) -> bool:
    """Whether this process has found the file whole, and nobody has written it since."""
    return content_of(path) in _seen


def was_whole(path: Path) -> bool:
    """Whether a content like this was found whole before, by whatever process.

    The caller holds no lock of the file, for reading it here would drop that.
    """
    with suppress(OSError, ValueError):  # whatever others may have left there
        known = _memory(path).read_text(encoding="ascii")
        before = content_of(path)
        if known == _digest(path) and content_of(path) == before:
            _seen.add(before)
            return True
    return False


def remember(path: Path, content: Content) -> None:
    """Keep that a content was found whole; the caller holds no lock of the file any more."""
    _seen.add(content)
    # Without a place to remember it is checked again the next time.
    with suppress(OSError):
        digest = _digest(path)
        if content_of(path) == content:
            memory = _memory(path)
            memory.parent.mkdir(parents=True, exist_ok=True)
            replace_file(memory, digest)


def _memory(path: Path) -> Path:
    name = hashlib.sha256(str(path.resolve()).encode("utf-8", "surrogateescape")).hexdigest()
    return user_cache_path("ferocal") / "whole" / name


def _digest(path: Path) -> str:
    """The digest of a file, with the version that checks: another one may find more."""
    with path.open("rb") as file:
        return f"{__version__} {hashlib.file_digest(file, hashlib.blake2b).hexdigest()}"
