"""Steps of the clock of the day while a study is measured, forwards and backwards."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
from pathlib import Path

from jobs import Course, call, copied, left_in, surroundings
from material import PROGRAM

STEPS = (-1.0, 1.0, -3600.0, 3600.0, -86_400.0 * 400, 86_400.0 * 400)


def steps(study: Course, count: int, scratch: Path, library: Path) -> int:
    """So many studies, each with a step or two at random moments; the number of faults."""
    faults = 0
    for number in range(count):
        for text in _stepped(study, number, scratch, library):
            faults += 1
            print(f"  step {number}: {text}", flush=True)
    print(f"{count} studies with a stepping clock: {faults} faults (target 0)", flush=True)
    return faults


def _stepped(study: Course, number: int, scratch: Path, library: Path) -> list[str]:
    rng = random.Random(f"clock {number}")
    folder = scratch / f"clock-{number}"
    words = copied(study.job, study.good, folder)
    clock = scratch / f"clock-{number}.double"
    clock.write_bytes(struct.pack("d", 0.0))
    environment = surroundings(folder) | {
        "LD_PRELOAD": str(library), "FAULTY_CLOCK": str(clock)
    }  # fmt: skip
    process = subprocess.Popen(
        [PROGRAM, *words], cwd=folder, env=environment, stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    for _ in range(rng.choice((1, 2))):
        try:
            process.wait(rng.uniform(0.0, study.seconds * 0.6))
        except subprocess.TimeoutExpired:
            _set(clock, rng.choice(STEPS))
    _, error = process.communicate(timeout=120)
    wrong = []
    if process.returncode or "Traceback" in error:
        wrong.append(f"ended with {process.returncode}: {error[-300:]}")
    if text := study.wrong_with(folder, ended=True):
        wrong.append(text)
    if left := left_in(folder):
        wrong.append(f"left behind: {', '.join(left)}")
    for command in ("compare", "runs", "history"):
        done = call(folder, (command,), folder)
        if done.returncode or "Traceback" in done.stderr:
            wrong.append(f"{command}: {done.stderr[-300:]}")
    shutil.rmtree(folder)
    clock.unlink()
    return wrong


def _set(clock: Path, seconds: float) -> None:
    """Step the clock by writing into the page that the processes look at."""
    with clock.open("r+b") as file:
        file.write(struct.pack("d", seconds))
