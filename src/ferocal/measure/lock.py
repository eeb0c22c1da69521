"""One measuring process per study and per bench."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_state_path

from ferocal.errors import FerocalError
from ferocal.ledger.store import now
from ferocal.study.load import Study

LOCK_FILE = "measure.lock"


@contextmanager
def study_lock(directory: Path) -> Iterator[None]:
    """Hold the right to measure in a study.

    Raises
    ------
    FerocalError
        When another process holds it.
    """
    with ExitStack() as stack:
        _acquire(stack, directory / LOCK_FILE, "in this study", None)
        yield


@contextmanager
def measuring_lock(study: Study) -> Iterator[None]:
    """Hold the right to measure in a study and on its bench.

    Raises
    ------
    FerocalError
        When another process holds either; the message says which one.
    """
    benches = user_state_path("ferocal")
    locks = [
        (study.directory / LOCK_FILE, "in this study"),
        (benches / f"bench-{study.bench}.lock", f'on the bench "{study.bench}"'),
    ]
    holder = benches / f"bench-{study.bench}.json"
    with ExitStack() as stack:
        for path, where in locks:
            _acquire(stack, path, where, holder)
        facts = {"process": os.getpid(), "study": str(study.directory.resolve()), "since": now()}
        holder.write_text(json.dumps(facts), encoding="utf-8")
        yield


def _acquire(stack: ExitStack, path: Path, where: str, holder: Path | None) -> None:
    lock = FileLock(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        lock.acquire(blocking=False)
    except Timeout:
        raise FerocalError(
            f"`ferocal measure` is already running {where}{_describe(holder)}; "
            "wait for it to end, or end it"
        ) from None
    except OSError as error:
        raise FerocalError(f"{path.parent}: cannot be written: {error.strerror}") from None
    stack.callback(lock.release)


def _describe(holder: Path | None) -> str:
    if holder is None:
        return ""
    try:
        facts = json.loads(holder.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return ""  # just taken, and not written down yet
    return f": process {facts['process']}, study {facts['study']}, since {facts['since']}"
