"""Start-up: `ferocal --help`, and the reading commands on the demo study.

Times are medians of whole processes; each is taken in turn with its reference, so that a
machine that changes its speed changes both. The reference of a command imports the modules of
other packages that the command loads, and does nothing else. Byte code is kept, as it is where
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
_READING = ("compare", "factors", "table", "plan", "runs", "inspect", "frames", "soak", "report")
COMMANDS = _READING[: scaled(9, 1)]
# Prints the modules of installed packages that a command has loaded, in their order.
LOADED = """
import atexit, contextlib, io, sys
from ferocal.__main__ import main

def tell():
    places = {{n: getattr(m, "__file__", None) or "" for n, m in sys.modules.items()}}
    names = [n for n, place in places.items() if "site-packages" in place]
    names = [n for n in names if not n.startswith(("ferocal", "__editable__", "_distutils"))]
    print(" ".join(names), file=output, flush=True)

output, sys.argv = sys.stdout, ["ferocal", *{arguments!r}]
atexit.register(tell)
with contextlib.redirect_stdout(io.StringIO()):
    main()
"""
IMPORT = """
import importlib
for name in {modules!r}:
    importlib.import_module(name)
"""
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


def bare_import(arguments: list[str], directory: str) -> list[str]:
    """A command that imports what a command of ours loads of other packages."""
    code = LOADED.format(arguments=arguments)
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=directory, check=True, capture_output=True, text=True
    )
    return [sys.executable, "-c", IMPORT.format(modules=done.stdout.split())]


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
        for name in COMMANDS:
            reference_command = bare_import([name], folder)
            ours, reference = compare_in_turn([PROGRAM, name], reference_command, folder)
            print(
                f"ferocal {name}: {ours:.2f} s (target below 0.7 s), bare import of what it "
                f"needs: {reference:.2f} s, ratio {ours / reference:.2f} (target below 1.2)"
            )


if __name__ == "__main__":
    main()
