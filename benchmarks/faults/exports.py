"""Exports and loads on a loaded machine: none may end by abort, as threads of a library once did.

So many times a study with traces is exported as Parquet and its traces are loaded into another
ledger, each a process of its own, four at a time while two more keep the processors busy. What
counts is the exit status, and that everything came back.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from material import PROGRAM, STUDY

AT_ONCE = 4
BUSY = "while True: sum(range(10**6))"


def run(folder: Path, *words: str) -> int:
    """The exit status of a command."""
    done = subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, check=False)
    return done.returncode


def there_and_back(source: Path, scratch: Path, number: int) -> list[int]:
    """Export a study and load it into a new one; the exit statuses, and how many runs are off."""
    folder = scratch / str(number)
    folder.mkdir()
    shutil.copy(source / "study.toml", folder)
    statuses = [
        run(source, "export", str(folder / "all.parquet"), "--traces", str(folder / "traces")),
        run(folder, "load", *map(str, sorted((folder / "traces").glob("*.parquet")))),
    ]
    traces = len(list((folder / "traces").glob("*.parquet")))
    shutil.rmtree(folder)
    return [*statuses, traces - 6]


def exports(times: int, scratch: Path) -> int:
    """Export and load so many times; how many ended otherwise, or without all traces."""
    source = scratch / "source"
    source.mkdir()
    (source / "study.toml").write_text(STUDY)
    subprocess.run([PROGRAM, "measure"], cwd=source, check=True, capture_output=True)
    busy = [subprocess.Popen([sys.executable, "-c", BUSY]) for _ in range(os.cpu_count() or 1)]
    try:
        with ThreadPoolExecutor(AT_ONCE) as pool:
            jobs = [(source, scratch, number) for number in range(times)]
            found = list(pool.map(lambda job: there_and_back(*job), jobs))
    finally:
        for process in busy:
            process.kill()
            process.wait()
    statuses = Counter(status for one in found for status in one[:2])
    missing = sum(one[2] != 0 for one in found)
    wrong = sum(count for status, count in statuses.items() if status != 0)
    print(f"{times} exports and {times} loads, exit statuses {dict(statuses)}: "
          f"{wrong} ended in another way (target 0), {missing} without all traces (target 0)",
          flush=True)  # fmt: skip
    return wrong + missing
