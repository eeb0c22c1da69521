"""Files that are there whole or not at all, and scratch directories.

What is being written is in a separate directory, which the process holds. If the process is
killed, the next one that writes there removes the directory.
"""

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


@contextlib.contextmanager
def scratch_directory(parent: Path | None = None, prefix: str = _PREFIX) -> Iterator[Path]:
    """A new directory that is gone afterwards; those of killed processes are cleared.

    It is where temporary files are, or in another ``parent``.

    Raises
    ------
    FerocalError
        When it cannot be made.
    """
    parent = Path(tempfile.gettempdir()) if parent is None else parent
    try:
        scratch = _make(parent, prefix)
    except OSError as error:
        raise FerocalError(f"{parent}: cannot be written: {error.strerror}") from error
    with _gone_afterwards(scratch):
        yield scratch


def _make(parent: Path, prefix: str) -> Path:
    clear_left(parent, prefix)
    return Path(tempfile.mkdtemp(prefix=f"{prefix}{os.getpid()}-", dir=parent))


@contextlib.contextmanager
def _gone_afterwards(scratch: Path) -> Iterator[None]:
    with contextlib.ExitStack() as stack:
        # Some file systems over a network lock no directories; nothing is cleared there either.
        with contextlib.suppress(OSError):
            stack.enter_context(_held(scratch))
        try:
            yield
        finally:
            shutil.rmtree(scratch, ignore_errors=True)


def clear_left(parent: Path, prefix: str) -> None:
    """Remove the directories that processes have left that were killed, of the same user."""
    if sys.platform == "win32":
        return  # what is in use cannot be told from what is not
    for path in parent.iterdir():
        if not path.name.startswith(prefix):
            continue
        pid = path.name.removeprefix(prefix).partition("-")[0]
        if not pid.isdecimal() or _is_running(int(pid)):
            continue
        with contextlib.suppress(OSError):  # another process was faster, or it is another user's
            facts = path.lstat()
            if path.is_dir() and not path.is_symlink() and facts.st_uid == os.geteuid():
                with _held(path):
                    shutil.rmtree(path, ignore_errors=True)


def _is_running(pid: int) -> bool:
    import psutil

    return bool(psutil.pid_exists(pid))


@contextlib.contextmanager
def _held(directory: Path) -> Iterator[None]:
    """Hold a directory, so that no other process takes it for left behind.

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


@contextlib.contextmanager
def replacing(path: Path, *, durable: bool = False, mode: int | None = None) -> Iterator[Path]:
    """A new file near another, whose place it takes when all of it is written.

    Its name cannot be foreseen, and it is gone if something fails. A link is replaced, and not
    followed. What is ``durable`` is there after a power cut too. Without a ``mode`` it is as
    readable as any file that the user makes.

    Raises
    ------
    OSError
        When it cannot be written.
    """
    scratch = _make(path.parent, f".{path.name}-")
    with _gone_afterwards(scratch):
        partial = scratch / path.name
        yield partial
        if durable:
            with partial.open("rb") as file:
                os.fsync(file.fileno())
        if mode is not None:
            partial.chmod(mode)
        partial.replace(path)


def replace_file(path: Path, text: str, *, durable: bool = False, mode: int = 0o600) -> None:
    """Write a text in the place of a file, its owner's alone without another ``mode``.

    Raises
    ------
    OSError
        As `replacing` does.
    """
    with replacing(path, durable=durable, mode=mode) as partial:
        partial.write_text(text, encoding="utf-8", newline="")
