"""Limits of what is read of a run: time, and what kind of file it may be."""

from __future__ import annotations

import signal
import stat
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

import psutil

from ferocal.terms.numbers import grouped

# Larger files are not read: no run has so many frames.
FILE_LIMIT = 2**29


class TooLongError(Exception):
    """Reading took longer than it may."""


class OddFileError(ValueError):
    """A file that is none to be read: a pipe, a device, a huge one, one that is still written."""


@contextmanager
def time_limit(seconds: float) -> Iterator[None]:
    """Within, reading may take so many seconds; a search for a pattern is ended too.

    Only in the main thread, and only where the system has interval timers.

    Raises
    ------
    TooLongError
        When it takes longer.
    """
    if sys.platform == "win32" or threading.current_thread() is not threading.main_thread():
        yield
        return

    def end(_number: int, _frame: FrameType | None) -> None:
        raise TooLongError(f"took longer than {seconds:.4g} s")

    before = signal.signal(signal.SIGALRM, end)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def check_file(path: Path) -> tuple[int, int]:
    """Check that a file is a regular one of a size that can be read; its size and time of change.

    Raises
    ------
    OddFileError
        When it is not; opening a pipe or a device might never end.
    OSError
        When nothing is known of it.
    """
    facts = path.stat()
    if not stat.S_ISREG(facts.st_mode):
        raise OddFileError(f"{path.name} is not a regular file: have the workload write one")
    if facts.st_size > FILE_LIMIT:
        raise OddFileError(
            f"{path.name} has {grouped(facts.st_size)} bytes, and is read up to "
            f"{grouped(FILE_LIMIT)}: write less of it, or write Parquet"
        )
    return facts.st_size, facts.st_mtime_ns


def check_settled(path: Path, before: tuple[int, int]) -> None:
    """Check that nothing has written into a file since it was checked, nor still may.

    Raises
    ------
    OddFileError
        When something has, or has it open.
    """
    if check_file(path) != before:
        raise OddFileError(
            f"{path.name} changed while it was read: let the command end when all is written"
        )
    writers = _writers(path)
    if writers:
        raise OddFileError(
            f"{path.name} is still open for writing in {', '.join(writers)}: have it closed before "
            "the command ends"
        )


def _writers(path: Path) -> list[str]:
    """Names of processes that have a file open for writing, as far as the system shows that."""
    if sys.platform != "linux":
        return []
    wanted, found = str(path.resolve()), set()
    for process in psutil.process_iter():
        try:
            opened = process.open_files()
            if any(o.path == wanted and o.mode not in ("r", "") for o in opened):
                found.add(process.name())
        except (psutil.Error, OSError):
            continue  # ended meanwhile, or of another user
    return sorted(found)
