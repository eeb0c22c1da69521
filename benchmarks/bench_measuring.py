"""What measuring costs: overhead per run, growth over 10,000 runs, size of the ledger.

The overhead is held against a bare loop of the same subprocess calls, taken in turn
with it in the same run, so that a machine that changes its speed changes both.
"""

from __future__ import annotations

import itertools
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
STUDY = """
[study]
question = "What does measuring cost?"
margin = "5 %"
rounds = {rounds}
runs = {runs}
[factor.mode.level.off]
[factor.mode.level.on]
environment = {{ MODE = "on" }}
[workload.nothing]
command = ["sh", "-c", "echo score 1"]
[workload.nothing.metric.time]
unit = "ms"
better = "lower"
source = "wall-time"
"""
TURNS = scaled(5, 1)


def write_study(folder: Path, rounds: int, runs: int) -> None:
    """Write the study of a program that does nothing."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "study.toml").write_text(STUDY.format(rounds=rounds, runs=runs))


def measure(folder: Path, *arguments: str) -> float:
    """Seconds that `ferocal measure` takes."""
    start = time.perf_counter()
    subprocess.run([PROGRAM, "measure", *arguments], cwd=folder, check=True, capture_output=True)
    return time.perf_counter() - start


def bare_loop(times: int) -> list[float]:
    """Seconds of each of so many bare subprocess calls."""
    seconds = []
    for _ in range(times):
        start = time.perf_counter()
        subprocess.run(["sh", "-c", "echo score 1"], check=True, capture_output=True)
        seconds.append(time.perf_counter() - start)
    return seconds


def run_times(folder: Path) -> tuple[list[float], list[float]]:
    """Wall times (s) of all runs, and the times (s) from the start of each to the next."""
    connection = sqlite3.connect(folder / "ledger.sqlite")
    query = "SELECT wall, (julianday(started_at) - 2440587.5) * 86400.0 FROM run ORDER BY id"
    rows = connection.execute(query).fetchall()
    connection.close()
    starts = [row[1] for row in rows]
    return [row[0] for row in rows], [b - a for a, b in itertools.pairwise(starts)]


def show_overhead(folder: Path) -> None:
    """Print what a run costs beyond a bare call, and what is added to its wall time."""
    added, within = [], []
    for turn in range(TURNS):
        place = folder / f"overhead-{turn}"
        write_study(place, rounds=2, runs=50)
        bare = statistics.median(bare_loop(scaled(200, 5)))
        measure(place)
        walls, gaps = run_times(place)
        added.append(1000 * (statistics.median(gaps) - bare))
        within.append(1000 * (statistics.median(walls) - bare))
    print(f"overhead per run in all: {statistics.median(added):.2f} ms (target below 5 ms)")
    print(
        f"within the measured wall time: {statistics.median(within):+.2f} ms against a bare call "
        "(target below 0.3 ms)"
    )


def show_growth(folder: Path) -> None:
    """Print the time per run at the end of 10,000 runs against that at the start."""
    write_study(folder, rounds=scaled(50, 3), runs=scaled(100, 4))
    seconds = measure(folder)
    walls, gaps = run_times(folder)
    # What Ferocal adds, so that a program that is slower for a while does not count.
    added = [gap - wall for gap, wall in zip(gaps, walls, strict=False)]
    tenth = len(added) // 10
    first, last = statistics.median(added[:tenth]), statistics.median(added[-tenth:])
    print(f"{len(walls):,} runs in {seconds:.0f} s, {1000 * seconds / len(walls):.1f} ms each")
    print(
        f"added per run in the first tenth {1000 * first:.2f} ms, in the last "
        f"{1000 * last:.2f} ms: ratio {last / first:.2f} (target below 1.2)"
    )
    size = (folder / "ledger.sqlite").stat().st_size
    print(f"ledger: {size / 2**20:.1f} MiB, {size / len(walls):.0f} bytes per run")
    print(f"nothing left to do: {measure(folder):.2f} s to find that out")


def main() -> None:
    """Print the figures against their targets."""
    with tempfile.TemporaryDirectory(dir=Path.cwd()) as folder:
        show_overhead(Path(folder))
        show_growth(Path(folder) / "growth")


if __name__ == "__main__":
    main()
