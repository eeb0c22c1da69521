"""Loading a million readings, against pandas reading the same file.

The file is a long table with three metrics a run. Reading and checking it (what `--preview`
does), and recording it as well, are held against `pandas.read_csv` of the same file in the
same process; peak memory is that of a process that loads it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

from ferocal.intake.loading import read_source
from ferocal.study.load import load_study
from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
ROWS = scaled(1_000_002, 6_000)
REPEATS = scaled(11, 1)
STUDY = """
[study]
question = "Which is faster?"
margin = "5 %"
[factor.system.level.halden-4]
[factor.system.level.halden-5]
[workload.query.metric.rate]
unit = "1/s"
better = "higher"
[workload.query.metric.time]
unit = "s"
better = "lower"
[workload.query.metric.memory]
unit = "MiB"
better = "lower"
"""


def write_readings(path: Path) -> None:
    """Write a long table of a million readings."""
    runs = ROWS // 3
    run = np.repeat(np.arange(runs), 3)
    frame = pd.DataFrame(
        {
            "configuration": np.where(run % 2, "halden-4", "halden-5"),
            "workload": "query",
            "metric": np.tile(["rate", "time", "memory"], runs),
            "value": np.random.default_rng(1).normal(100, 3, ROWS).round(4),
            "round": run // 2 % 1000 + 1,
            "run": run // 2000 + 1,
        }
    )
    frame.to_csv(path, index=False)


def timed(work: Callable[[], object]) -> float:
    """How long something takes, in seconds."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def main() -> None:
    """Print the figures against their targets."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "study.toml").write_text(STUDY)
        file = folder / "scores.csv"
        write_readings(file)
        study = load_study(folder)
        # Before this process grows: the kernel counts its memory into that of its children.
        start = time.perf_counter()
        process = subprocess.Popen([PROGRAM, "load", str(file)], cwd=folder)
        _, status, usage = os.wait4(process.pid, 0)
        assert status == 0
        loaded = time.perf_counter() - start
        # In turn, for the machine may change its speed.
        pairs = [
            (timed(lambda: pd.read_csv(file)), timed(lambda: read_source(study, file, "")))
            for _ in range(REPEATS)
        ]
        plain, checked = np.median(pairs, axis=0)
        print(
            f"{ROWS:,} readings: pandas reads them in {plain:.2f} s; read and checked in "
            f"{checked:.2f} s, {plain / checked:.2f} of its speed (target above 0.5; "
            f"medians of {REPEATS} in turn)"
        )
        print(
            f"recorded too, whole process: {loaded:.2f} s (target below 8 s); peak memory "
            f"{usage.ru_maxrss / 1024:.0f} MiB (target below 400)"
        )


if __name__ == "__main__":
    main()
