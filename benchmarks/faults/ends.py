"""Kills and Ctrl-C at random moments of every job: nothing is lost, doubled or left behind."""

from __future__ import annotations

import random
import shutil
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from jobs import Course, copied, surroundings
from material import PROGRAM

SIGNALS = {"kills": signal.SIGKILL, "Ctrl-C": signal.SIGINT}
# Where commands may end by themselves before the signal.
_LATEST = 1.05
_CALLS = 40
# After so many attempts it is told how far it is.
_TOLD = 50


def disturbed(course: Course, name: str, number: int, scratch: Path) -> list[str]:
    """End a job at a random moment, call it until it ends by itself; what was wrong."""
    return list(_disturbed(course, name, number, scratch))


def _disturbed(course: Course, name: str, number: int, scratch: Path) -> Iterator[str]:
    rng = random.Random(f"{course.job.name} {name} {number}")
    folder = scratch / f"{course.job.name} {name} {number}".replace(" ", "-")
    words = copied(course.job, course.good, folder)
    try:
        yield from _end_once(course, name, words, folder, rng)
        for _ in range(_CALLS if course.job.measures else 0):
            # Some are ended again and again, as by someone who does not wait.
            if rng.random() < 0.5:
                break
            yield from _end_once(course, name, words, folder, rng)
        yield from course.wrong_when_called_again(folder, words)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _end_once(
    course: Course, name: str, words: tuple[str, ...], folder: Path, rng: random.Random
) -> Iterator[str]:
    process = subprocess.Popen(
        [PROGRAM, *words], cwd=folder, env=surroundings(folder), stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, start_new_session=True,
    )  # fmt: skip
    try:
        _, error = process.communicate(timeout=rng.uniform(0.0, course.seconds * _LATEST))
    except subprocess.TimeoutExpired:
        process.send_signal(SIGNALS[name])
        _, error = process.communicate(timeout=60)
    expected = (-9, 0) if name == "kills" else (130, 0)
    # Before the interpreter reaches the program, Ctrl-C is the interpreter's own matter.
    begun = "ferocal" in error or process.returncode != 1
    early = process.returncode == -signal.SIGINT or not begun
    if not early and (process.returncode not in expected or "Traceback" in error):
        yield f"ended with {process.returncode}: {error[-300:]}"
    if wrong := course.wrong_with(folder):
        yield f"ended with {process.returncode}: {wrong}"


def ends(jobs: list[Course], count: int, scratch: Path, workers: int) -> int:
    """So many kills and so many Ctrl-C, spread over the jobs; the number of faults."""
    faults = 0
    for name in SIGNALS:
        tries = [(jobs[number % len(jobs)], number) for number in range(count)]
        with ThreadPoolExecutor(workers) as pool:
            asked = [pool.submit(disturbed, course, name, n, scratch) for course, n in tries]
            kinds: Counter[str] = Counter()
            for (course, number), attempt in zip(tries, asked, strict=True):
                for text in attempt.result():
                    kinds[course.job.name] += 1
                    print(f"  {course.job.name}, {number}: {text}", flush=True)
                if (number + 1) % _TOLD == 0:
                    print(f"  {number + 1} of {count} {name}", file=sys.stderr, flush=True)
        print(f"{count} {name} over {len(jobs)} jobs: {kinds.total()} faults (target 0) "
              f"{dict(kinds) or ''}", flush=True)  # fmt: skip
        faults += kinds.total()
    return faults
