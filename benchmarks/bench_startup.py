"""Start-up: `ferocal --help`, and the reading commands on the demo study.

Times are medians of whole processes; each is taken in turn with its reference, so that a
machine that changes its speed changes both. The reference of a command that reads is Python with
NumPy: the targets are 0.45 s where that takes 0.08 s. Byte code is kept, as it is where
the program is installed. A directory with the measured demo may be named, which saves to
measure it.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sizes import operands, scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
TURNS = scaled(15, 1)
# What is read, with the directory of its study within the demo; the last three draw besides.
_READING = (
    ("compare", "."), ("table", "."), ("runs", "."), ("inspect", "."), ("plan", "."), ("rank", "."),
    ("factors", "."), ("series firmware", "kiosk"), ("frames", "."), ("soak", "."), ("report", "."),
)  # fmt: skip
COMMANDS = _READING[: scaled(len(_READING), 1)]
TARGET = 0.45 / 0.08
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
        print(f"ratio {ours / reference:.2f} (target below 1.3)")
        if operands():
            shutil.copytree(operands()[0], folder, dirs_exist_ok=True)
        else:
            subprocess.run([PROGRAM, "demo", folder], check=True, capture_output=True)
        numpy = [sys.executable, "-c", "import numpy"]
        for words, place in COMMANDS:
            command = [PROGRAM, *words.split(), *(["--force"] if words == "report" else [])]
            ours, reference = compare_in_turn(command, numpy, str(Path(folder, place)))
            print(
                f"ferocal {words}: {ours:.2f} s, Python with NumPy: {reference:.2f} s, "
                f"ratio {ours / reference:.1f} (target below {TARGET:.1f})"
            )


if __name__ == "__main__":
    main()
