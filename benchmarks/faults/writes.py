"""Failing writes, by a library preloaded below the program.

Every write of a job fails once, or fails from then on as on a full disk, or the program is killed
there.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import io
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jobs import Course, copied, courses, surroundings

LIBRARY = "FAULTY_LIBRARY"
_ANSWER = "answer.txt"


@dataclass(frozen=True)
class Way:
    """How a write fails: with an error, once or from then on; without one, by a kill."""

    name: str
    error: int
    lasting: bool


WAYS = (
    Way("full disk", errno.ENOSPC, lasting=True),
    Way("failing write", errno.EIO, lasting=False),
    Way("kill at a write", 0, lasting=False),
)


def build_library(folder: Path) -> Path | None:
    """The library that has writes fail, or None without a compiler or another system than Linux."""
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None or not sys.platform.startswith("linux"):
        return None
    library = folder / "faulty.so"
    source = Path(__file__).with_name("faulty.c")
    subprocess.run([compiler, "-shared", "-fPIC", "-O2", "-o", library, source, "-ldl"], check=True)
    return library


def _attempt(
    words: tuple[str, ...], folder: Path, way: Way | None, number: int
) -> tuple[int, str, int]:
    """Exit status and errors of a call of which a write fails, and how many writes it made."""
    environment = surroundings(folder)
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reader)
        os.environ.update(environment)
        tempfile.tempdir = None  # it is asked for again
        os.chdir(folder)
        _in_child(words, folder, way, number, writer)
    os.close(writer)
    with os.fdopen(reader, encoding="utf-8", errors="replace") as answer:
        said = answer.read()
    _, status = os.waitpid(child, 0)
    seen, _, text = said.partition("\n")
    return os.waitstatus_to_exitcode(status), text, int(seen or 0)


def _in_child(
    words: tuple[str, ...], folder: Path, way: Way | None, number: int, answer: int
) -> None:
    from ferocal.cli import main

    library = ctypes.CDLL(os.environ[LIBRARY])
    place = os.fsencode(folder)
    error, lasting = (way.error, way.lasting) if way is not None else (errno.EIO, False)
    printed = io.StringIO()
    sys.argv = ["ferocal", *words]
    status = 70
    try:
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(printed):
            library.faulty_arm(number, error, lasting, place)
            try:
                status = main.run()
            except SystemExit as end:
                status = int(end.code or 0)
    except BaseException as escaped:
        printed.write(f"Traceback: {escaped!r}")
    finally:
        seen = library.faulty_seen()
        library.faulty_arm(-1, errno.EIO, False, b"")
        os.write(answer, f"{seen}\n{printed.getvalue()}"[-60_000:].encode("utf-8", "replace"))
        os._exit(status)


def _faults_of(course: Course, folder: Path, way: Way, number: int) -> Iterator[str]:
    words = copied(course.job, course.good, folder)
    status, error, _ = _attempt(words, folder, way, number)
    if status == 70 or "Traceback" in error:
        yield f"exit {status}: {error[-400:]}"
    wrong = course.wrong_with(folder)
    if wrong and not (course.job.measures and status == -9):
        yield f"exit {status}: {wrong} {error[-200:]}"
    if status == 0 and course.wrong_with(folder, ended=True):
        yield f"said to be done, and is not: {course.wrong_with(folder, ended=True)}"
    yield from course.wrong_when_called_again(folder, words)


def try_writes(course: Course, scratch: Path, most: int, share: tuple[int, int]) -> list[Any]:
    """The faults of a job when each of its writes fails in every way, and how many were tried."""
    _load_all()
    folder = scratch / f"{course.job.name.replace(' ', '-')}-{share[0]}"
    _, _, writes = _attempt(copied(course.job, course.good, folder), folder, None, -1)
    shutil.rmtree(folder)
    numbers: list[int] = list(range(1, writes + 1))
    if len(numbers) > most:
        numbers = sorted(random.Random(course.job.name).sample(numbers, most))
    found, tried = [], 0
    for way in WAYS:
        for number in numbers[share[0] :: share[1]]:
            tried += 1
            found += [(way.name, number, text) for text in _faults_of(course, folder, way, number)]
            shutil.rmtree(folder, ignore_errors=True)
    return [course.job.name, writes, tried, found]


def _load_all() -> None:
    """Have everything in memory that a child uses, so that it only works."""
    import importlib

    from ferocal.cli import main

    for name in main.CommandGroup().list_commands(None):  # type: ignore[arg-type]
        importlib.import_module(f"ferocal.cli.{name.replace('-', '_')}")


def _work(job: tuple[str, str, int, tuple[int, int]]) -> list[Any]:
    """A share of one job in an interpreter with the library below it; a line of JSON."""
    import json

    good, name, most, share = job
    words = [sys.executable, __file__, good, name, str(most), f"{share[0]}/{share[1]}"]
    library = os.environ[LIBRARY]
    done = subprocess.run(
        words, env={**os.environ, "LD_PRELOAD": library}, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    if done.returncode:
        raise SystemExit(f"{name}: {done.stderr[-3000:]}")
    found: list[Any] = json.loads(done.stdout.splitlines()[-1])
    return found


def writes(good: Path, names: list[str], most: int, workers: int, library: Path) -> int:
    """Every write of every job, at most so many of each; the number of faults."""
    os.environ[LIBRARY] = str(library)
    tasks = [(str(good), name, most, (i, workers)) for name in names for i in range(workers)]
    with ThreadPoolExecutor(workers) as pool:
        answers = list(pool.map(_work, tasks))
    counts: Counter[str] = Counter()
    wrong, made = [], {}
    for name, of_job, tried, found in answers:
        counts["tried"] += tried
        made[name] = of_job
        wrong += [(name, *fault) for fault in found]
    for name, way, number, text in wrong[:30]:
        print(f"  {name}, {way} {number}: {text}", flush=True)
    said = ", ".join(f"{name} {count}" for name, count in made.items())
    print(f"{counts['tried']} failing writes (writes of a job: {said}): {len(wrong)} faults "
          "(target 0)", flush=True)  # fmt: skip
    return len(wrong)


def _main() -> None:
    """What `_work` starts: the faults of a share of one job, as JSON."""
    import json

    good, name, most, share = sys.argv[1:5]
    first, of = share.split("/")
    with tempfile.TemporaryDirectory() as scratch:
        (course,) = courses(Path(good), Path(scratch), [name])
        found = try_writes(course, Path(scratch), int(most), (int(first), int(of)))
    print(json.dumps(found))


if __name__ == "__main__":
    _main()
