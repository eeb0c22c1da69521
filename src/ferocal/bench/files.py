"""The files of runs, where they are written; standard library only, as a far bench has it."""

from __future__ import annotations

import glob
import hashlib
import os
import sys
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

_WILD = "*?["
_HIDDEN: dict[str, Any] = {"include_hidden": True} if sys.version_info >= (3, 11) else {}


def times_of(directory: Path, patterns: Iterable[str]) -> dict[str, int]:
    """What the file system says is the time now (ns), by pattern of the files that are to appear.

    A server that keeps the files may have another clock than the machine, and that of the machine
    may be set back; it serves where no file can be made. Patterns of directories that are not
    there yet are left out.
    """
    times = {}
    for pattern in patterns:
        place = _directory_of(directory, pattern)
        try:
            with tempfile.TemporaryFile(dir=place) as marker:
                times[pattern] = os.fstat(marker.fileno()).st_mtime_ns
        except OSError:
            if place.exists():
                times[pattern] = time.time_ns()
    return times


def _directory_of(directory: Path, pattern: str) -> Path:
    """The directory in which files of a pattern are, up to its first sign for anything."""
    parent = (directory / pattern).parent
    while any(sign in str(parent) for sign in _WILD) and parent != parent.parent:
        parent = parent.parent
    return parent


def matching(directory: Path, pattern: str) -> list[Path]:
    """The files of a name, or of a pattern of names, below a directory; in order of name."""
    plain = directory / pattern
    if plain.is_file():
        return [plain]
    # Path.glob raises errors for absolute patterns, and for ** amid a name.
    whole = str(Path(glob.escape(str(directory))) / pattern)
    return sorted(map(Path, glob.glob(whole, recursive=True, **_HIDDEN)))  # noqa: PTH207


def digest_of(path: Path) -> str:
    """The SHA-256 of the content of a file."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        for piece in iter(lambda: file.read(1 << 20), b""):
            digest.update(piece)
    return digest.hexdigest()
