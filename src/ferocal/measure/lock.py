"""One measuring process per study and per bench, whoever the user is."""

from __future__ import annotations

import contextlib
import getpass
import hashlib
import json
import os
import stat
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import psutil
from filelock import FileLock, Timeout

from ferocal.bench.machine import machine_identity
from ferocal.errors import FerocalError
from ferocal.study.load import Study
from ferocal.terms.times import now

LOCK_FILE = "measure.lock"
# Names the directory of the locks of benches, such as one that containers share.
_PLACE = "FEROCAL_LOCKS"
# The first in which everybody can write: the same for all, wherever their temporary files are.
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


@contextmanager
def measuring_lock(study: Study) -> Iterator[None]:
    """Hold the right to measure in a study and on its bench.

    Raises
    ------
    FerocalError
        When another process holds either; the message says which one.
    """
    bench = _bench_file(study.bench)
    with ExitStack() as stack:
        _lock_study(stack, study.directory, bench)
        _lock_bench(stack, bench, study)
        yield


def _lock_study(stack: ExitStack, directory: Path, bench: Path | None) -> None:
    lock = FileLock(directory / LOCK_FILE)
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
        handle = _open_for_all(path)
        stack.callback(os.close, handle)
        if not _hold(handle):
            raise _refusal(where, _holder(path))
    except OSError as error:
        raise FerocalError(f"{path}: cannot be locked: {error.strerror}") from None
    facts = {
        "process": os.getpid(),
        "user": _user(),
        "study": str(study.directory.resolve()),
        "since": now(),
    }
    # Who is refused learns less if this cannot be written, but is refused all the same.
    with contextlib.suppress(OSError):
        os.ftruncate(handle, 0)
        os.lseek(handle, 0, os.SEEK_SET)
        os.write(handle, json.dumps(facts).encode())


def _open_for_all(path: Path) -> int:
    """A handle of a file that every user can open, whoever has made it."""
    flags = os.O_RDWR | getattr(os, "O_NOFOLLOW", 0)
    try:
        # Without O_CREAT: in directories like /tmp systems refuse that for files of others.
        return os.open(path, flags)
    except FileNotFoundError:
        handle = os.open(path, flags | os.O_CREAT, 0o666)
    with contextlib.suppress(OSError):  # another user made it in the meantime, for all as well
        path.chmod(0o666)
    return handle


def _hold(handle: int) -> bool:
    """Hold the lock of an open file until it is closed; whether nobody else does."""
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


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):  # a user without a name, as in containers
        return str(os.geteuid()) if hasattr(os, "geteuid") else "unknown"


def _refusal(where: str, holder: str) -> FerocalError:
    return FerocalError(
        f"`ferocal measure` is already running {where}{holder}; wait for it to end, or end it"
    )


def _holder(path: Path | None) -> str:
    """Who holds the lock of a bench, in words; "" if that is not known or is no more."""
    if path is None:
        return ""
    try:
        facts = json.loads(path.read_bytes())
        process, user = int(facts["process"]), str(facts["user"])
        study, since = str(facts["study"]), str(facts["since"])
    except (OSError, ValueError, KeyError, TypeError):
        return ""  # just taken, and not written down yet
    if not psutil.pid_exists(process):
        return ""
    return f": process {process} of {user}, study {study}, since {since}"
