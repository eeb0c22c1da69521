"""The scratch directory of a session, in which commands leave their outputs."""

from __future__ import annotations

import contextlib
import os
import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from ferocal.errors import FerocalError

_PREFIX = "ferocal-"
# With less than that free, an output may have been cut short.
_LEAST_FREE = 64 * 2**10


@contextlib.contextmanager
def scratch_directory(parent: Path | None = None, prefix: str = _PREFIX) -> Iterator[Path]:
    """A directory of our own that is gone afterwards; those of killed sessions are cleared.

    It is where temporary files are, or in another ``parent``.

    Raises
    ------
    FerocalError
        When it cannot be made.
    """
    parent = Path(tempfile.gettempdir()) if parent is None else parent
    _clear(parent, prefix)
    try:
        scratch = Path(tempfile.mkdtemp(prefix=f"{prefix}{os.getpid()}-", dir=parent))
    except OSError as error:
        raise FerocalError(f"{parent}: cannot be written: {error.strerror}") from None
    with _held(scratch):
        try:
            yield scratch
        finally:
            shutil.rmtree(scratch, ignore_errors=True)


def check_room(*places: Path) -> None:
    """Report a full disk, which commands report only in their own ways.

    Raises
    ------
    FerocalError
        When there is next to nothing free where one of the places is.
    """
    for place in places:
        with contextlib.suppress(OSError):  # a place that is gone is reported by what misses it
            if shutil.disk_usage(place).free < _LEAST_FREE:
                raise FerocalError(
                    f"{place}: the disk is full, so runs there cannot be trusted; free some space, "
                    "then run the same command again"
                )


def _clear(parent: Path, prefix: str) -> None:
    """Remove what sessions have left that were killed, of the same user."""
    if sys.platform == "win32":
        return  # what is in use cannot be told from what is not
    import psutil

    for path in parent.glob(f"{prefix}*-*"):
        pid = path.name.removeprefix(prefix).partition("-")[0]
        if not pid.isdecimal() or psutil.pid_exists(int(pid)):
            continue
        with contextlib.suppress(OSError):  # another process was faster, or it is another user's
            facts = path.lstat()
            if path.is_dir() and not path.is_symlink() and facts.st_uid == os.geteuid():
                with _held(path):
                    shutil.rmtree(path, ignore_errors=True)


@contextlib.contextmanager
def _held(directory: Path) -> Iterator[None]:
    """Hold a directory, so that no other session takes it for left behind.

    A process of another container, whose number says nothing here, holds its own too.
    """
    if sys.platform == "win32":
        yield
        return
    import fcntl

    handle = os.open(directory, os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    finally:
        os.close(handle)
