"""Start-up and overhead: `ferocal --help`, and a comparison of a small study.

Times are medians of whole processes; each is taken in turn with its reference, so that a
machine that changes its speed changes both.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
TURNS = 9


def seconds(command: list[str], directory: str) -> float:
    """Wall time of one process."""
    start = time.perf_counter()
    subprocess.run(command, cwd=directory, check=True, capture_output=True)
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
        ours, _ = compare_in_turn([PROGRAM, "compare"], click, folder)
        print(f"ferocal compare on the demo study: {ours:.2f} s (target below 1.0 s)")


if __name__ == "__main__":
    main()
