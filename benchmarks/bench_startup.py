"""Start-up and overhead: `ferocal --help`, and a comparison of a small study.

Times are medians of whole processes; each is taken in turn with its reference, so that a
machine that changes its speed changes both. Byte code is kept, as it is where the program
is installed.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
TURNS = 15
LIBRARIES = "import click, pydantic, sqlalchemy, numpy, scipy.special, rich.console, rich.table"
ENVIRONMENT = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


def seconds(command: list[str], directory: str) -> float:
    """Wall time of one process."""
    start = time.perf_counter()
    subprocess.run(command, cwd=directory, env=ENVIRONMENT, check=True, capture_output=True)
    return time.perf_counter() - start


def compare_in_turn(ours: list[str], reference: list[str], directory: str) -> tuple[float, float]:
    """Median seconds of ours and of the reference, taken alternately after a warm-up."""
    pairs = [(seconds(ours, directory), seconds(reference, directory)) for _ in range(TURNS + 1)]
    first, second = zip(*pairs[1:], strict=True)
    return statistics.median(first), statistics.median(second)


def main() -> None:
    """Print the figures against their targets."""
    with tempfile.TemporaryDirectory() as folder:
        click = [sys.executable, "-c", "import click"]
        ours, reference = compare_in_turn([PROGRAM, "--help"], click, folder)
        print(f"ferocal --help: {ours:.3f} s, import click: {reference:.3f} s", end=", ")
        print(f"ratio {ours / reference:.2f} (target below 1.5)")
        subprocess.run([PROGRAM, "demo", folder], check=True, capture_output=True)
        libraries = [sys.executable, "-c", LIBRARIES]
        ours, reference = compare_in_turn([PROGRAM, "compare"], libraries, folder)
        print(f"ferocal compare on the demo study: {ours:.2f} s (target below 1.0 s)", end=", ")
        print(f"of which importing the libraries that it uses takes {reference:.2f} s")


if __name__ == "__main__":
    main()
