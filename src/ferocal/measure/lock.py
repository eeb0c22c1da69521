"""One measuring process per study and per bench, whoever the user is."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import platform
import stat
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Annotated

import psutil
from filelock import FileLock, Timeout
from pydantic import BaseModel, Field

from ferocal.errors import FerocalError
from ferocal.study.load import Study
from ferocal.terms.signs import visible
from ferocal.terms.times import now
from ferocal.terms.users import user_name
from ferocal.terms.wording import shortened

LOCK_FILE = "measure.lock"
# Of what others have written into a lock, no more is read.
_MOST_BYTES = 2**14
# How often it is looked whether a lock is free (s).
_EVERY = 0.5
# Names the directory of the locks of benches, such as one that containers share.
_PLACE = "FEROCAL_LOCKS"
# The first that is writable for everyone: the same for all, wherever their temporary files are.
_PLACES = ("/run/lock", "/var/lock", "/tmp")


@contextmanager
def study_lock(directory: Path) -> Iterator[None]:
    """Hold the right to measure in a study.

    Raises
    ------
    FerocalError
        When another process holds it.
    """
    with ExitStack() as stack:
        _lock_study(stack, directory, None)
        yield


class BusyError(FerocalError):
    """Another process measures in the study, or on the bench."""


@contextmanager
def measuring_lock(study: Study, waiting: Callable[[str], None] | None = None) -> Iterator[None]:
    """Hold the right to measure in a study and on its bench.

    With ``waiting`` it is waited for, which that is told once for every holder.

    Raises
    ------
    BusyError
        When another process holds either, and it is not waited for; the message says which one.
    FerocalError
        When a lock cannot be written.
    """
    bench = _bench_file(study.bench)
    told = ""
    with ExitStack() as stack:
        while True:
            try:
                with ExitStack() as attempt:
                    _lock_study(attempt, study.directory, bench)
                    _lock_bench(attempt, bench, study)
                    stack.push(attempt.pop_all())
                break
            except BusyError as busy:
                if waiting is None:
                    raise
                if str(busy) != told:
                    told = str(busy)
                    waiting(f"waiting: {told.partition('; ')[0]}")
                time.sleep(_EVERY)
        yield


def _lock_study(stack: ExitStack, directory: Path, bench: Path | None) -> None:
    lock = FileLock(directory / LOCK_FILE, mode=0o600)
    try:
        lock.acquire(blocking=False)
    except Timeout:
        raise _refusal("in this study", _holder(bench)) from None
    except OSError as error:
        raise FerocalError(f"{directory}: cannot be written: {error.strerror}") from None
    stack.callback(lock.release)


def _bench_file(bench: str) -> Path:
    """The lock of a bench on this machine, the same for all of its users."""
    chosen = os.environ.get(_PLACE)
    shared = (place for place in map(Path, _PLACES) if _is_for_all(place))
    place = Path(chosen) if chosen else next(shared, Path(tempfile.gettempdir()))
    name = hashlib.sha256(f"{machine_identity()} {bench}".encode()).hexdigest()[:24]
    return place / f"ferocal-{name}.lock"


def _is_for_all(place: Path) -> bool:
    return place.is_dir() and bool(place.stat().st_mode & stat.S_IWOTH)


def _lock_bench(stack: ExitStack, path: Path, study: Study) -> None:
    """Hold the lock of a bench, and write into it who does."""
    where = f'on the bench "{study.bench}"'
    try:
        handle = _open_held(path)
        if handle is None:
            raise _refusal(where, _holder(path))
        stack.callback(_release, handle, path)
    except OSError as error:
        raise FerocalError(f"{path}: cannot be locked: {error.strerror}") from None
    facts = {
        "process": os.getpid(),
        "user": user_name(),
        "study": str(study.directory.resolve()),
        "since": now(),
    }
    # Who is refused learns less if this cannot be written, but is refused all the same.
    with contextlib.suppress(OSError):
        os.ftruncate(handle, 0)
        os.lseek(handle, 0, os.SEEK_SET)
        os.write(handle, json.dumps(facts).encode())


def _open_held(path: Path) -> int | None:
    """A handle of the lock, held until it is closed; None if another process holds it."""
    while True:
        handle = _open_shared(path)
        try:
            if not _hold(handle):
                os.close(handle)
                return None
            here, there = os.fstat(handle), path.stat()
            if (here.st_dev, here.st_ino) == (there.st_dev, there.st_ino):
                return handle
        except FileNotFoundError:
            pass  # whoever held it has just removed it
        except BaseException:
            os.close(handle)
            raise
        os.close(handle)


def _open_shared(path: Path) -> int:
    """A handle of a file that others can read as far as they can use its directory."""
    flags = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
    # Without O_CREAT: in directories like /tmp systems refuse that for files of others.
    for access in (os.O_RDWR, os.O_RDONLY):
        try:
            return os.open(path, flags | access)
        except PermissionError:
            continue  # left there by another user, whose file can be held all the same
        except FileNotFoundError:
            break
    handle = os.open(path, flags | os.O_RDWR | os.O_CREAT, 0o600)
    place, own = path.parent.stat().st_mode, os.fstat(handle)
    readers = stat.S_IRGRP * bool(place & stat.S_IWGRP) | stat.S_IROTH * bool(place & stat.S_IWOTH)
    if sys.platform != "win32" and own.st_uid == os.geteuid():
        os.fchmod(handle, stat.S_IRUSR | stat.S_IWUSR | readers)
    return handle


def _release(handle: int, path: Path) -> None:
    """Remove the lock while it is held, and let go of it."""
    with contextlib.suppress(OSError):  # another user's, or a system that keeps what is open
        path.unlink()
    os.close(handle)


def _hold(handle: int) -> bool:
    """Hold the lock of an open file until it is closed; whether no other process does."""
    if sys.platform == "win32":
        import msvcrt

        try:
            msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)
        except OSError:
            return False
        return True
    import fcntl

    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _refusal(where: str, holder: str) -> BusyError:
    return BusyError(
        f"`ferocal measure` is already running {where}{holder}; wait for it with --wait, or end it"
    )


def _holder(path: Path | None) -> str:
    """Who holds the lock of a bench, in words; "" if that is unknown, or there is no holder."""
    if path is None:
        return ""
    try:
        with path.open("rb") as file:
            holder = _Holder.model_validate_json(file.read(_MOST_BYTES))
    except (OSError, ValueError):
        return ""  # just taken, and not written down yet, or written by something else
    if not psutil.pid_exists(holder.process):
        return ""
    user, study, since = (
        shortened(visible(text.replace("\n", " ")), 200)
        for text in (holder.user, holder.study, holder.since)
    )
    return f": process {holder.process} of {user}, study {study}, since {since}"


class _Holder(BaseModel):
    """Who holds a lock, as others have written it."""

    process: Annotated[int, Field(strict=True, ge=1, lt=2**31)]
    user: str
    study: str
    since: str


# Where systems keep their identity, and that of the present boot.
_IDENTITIES = (
    "/etc/machine-id",
    "/var/lib/dbus/machine-id",
    "/proc/sys/kernel/random/boot_id",
)


def machine_identity() -> str:
    """A text that no other machine has, nor this one after its next start, as far as it says."""
    found = []
    for name in _IDENTITIES:
        try:
            found.append(Path(name).read_text(encoding="utf-8").strip())
        except (OSError, ValueError):
            continue  # this system has no such file
    return " ".join(found) or platform.node()
