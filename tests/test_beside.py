"""A ledger that others write and hold meanwhile: none is called damaged, Ctrl-C is heard."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.columns import read_columns
from test_measure import wait_until

STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
rounds = 5000
[factor.mode.level.off]
[factor.mode.level.on]
[workload.flight]
command = "sh -c 'sleep 0.01; echo score 100'"
metric.score = { unit = "points", better = "higher", source = { pattern = "score ([0-9.]+)" } }
"""


def begin(ferocal: Ferocal, *arguments: str) -> subprocess.Popen[str]:
    """The program in the background, once it has begun to measure."""
    return subprocess.Popen(
        [PROGRAM, *arguments],
        cwd=ferocal.directory,
        env=surroundings(),
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        process_group=0,
    )


def test_reading_and_noting_beside_a_measurement_never_fails(ferocal: Ferocal) -> None:
    ferocal.write(STUDY)
    measuring = begin(ferocal, "measure")
    ledger = ferocal.directory / LEDGER_FILE
    wait_until(lambda: ledger.exists() and '"ok"' in ferocal.attempt("runs", "--json")[1])
    commands = [("table",), ("runs",), ("compare",), ("inspect", "--integrity")] * 20
    notes = 0
    try:
        for number, command in enumerate(commands):
            status, _, err = ferocal.attempt(*command)
            assert status == 0, (command, err)
            if number % 2:
                ferocal.quick("note", f"seen {number}")
                notes += 1
        assert measuring.poll() is None, measuring.communicate()
    finally:
        measuring.send_signal(signal.SIGINT)
        measuring.communicate(timeout=PATIENCE)
    assert len(ferocal.json("note")["notes"]) == notes == 40
    assert ferocal.json("inspect", "--integrity")["whole"] is True


HOLD = """
import sqlite3, sys
held = sqlite3.connect(sys.argv[1], isolation_level=None, timeout=0)
try:
    held.execute("BEGIN EXCLUSIVE")
except sqlite3.OperationalError:
    sys.exit(5)
print("held", flush=True)
sys.stdin.read()
"""


def hold(ledger: Path) -> subprocess.Popen[str]:
    """A stranger who holds a ledger until his input ends, or ends with 5 if he may not."""
    return subprocess.Popen(
        [sys.executable, "-c", HOLD, str(ledger)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )


def test_the_right_to_read_is_held_until_the_last_query(ferocal: Ferocal) -> None:
    """A file that is opened and closed beside a connection would drop the locks of the process."""
    ferocal.write(STUDY)
    ferocal.quick("measure", "--rounds", "1")
    path = ferocal.directory / LEDGER_FILE
    with read_ledger(ferocal.directory) as ledger:
        for _ in range(2):
            with read_ledger(ferocal.directory):
                pass
            read_columns(ledger)
            with hold(path) as stranger:
                assert stranger.wait(60) == 5
    with hold(path) as stranger:
        assert stranger.stdout is not None
        assert stranger.stdout.readline() == "held\n"


def test_a_ledger_held_for_longer_is_waited_for_by_every_command(ferocal: Ferocal) -> None:
    ferocal.write(STUDY)
    ferocal.quick("measure", "--rounds", "1")
    run = ferocal.json("runs")["run_list"][0]["id"]
    commands = [
        ("compare",), ("runs",), ("inspect", "--integrity"), ("note", "dark"),
        ("exclude", run, "--reason", "door was open"), ("measure", "--rounds", "2"),
    ]  # fmt: skip
    with hold(ferocal.directory / LEDGER_FILE) as stranger:
        assert stranger.stdout is not None
        assert stranger.stdout.readline() == "held\n"
        processes = [begin(ferocal, *command) for command in commands]
        wait_until(lambda: all(p.poll() is not None or waited(p) > 60 for p in processes))
        assert [process.poll() for process in processes] == [None] * len(commands)
    for command, process in zip(commands, processes, strict=True):
        _, err = process.communicate(timeout=PATIENCE)
        assert process.returncode == 0, (command, err)


def waited(process: subprocess.Popen[str]) -> int:
    """How often a process went to sleep: SQLite does so twelve times in a fifth of a second."""
    try:
        return psutil.Process(process.pid).num_ctx_switches().voluntary
    except psutil.NoSuchProcess:
        return 0


@pytest.mark.parametrize("command", ["measure", "compare", "note"])
def test_ctrl_c_is_heard_at_once_while_a_stranger_holds_the_ledger(
    ferocal: Ferocal, command: str
) -> None:
    ferocal.write(STUDY.replace("sleep 0.01", "touch begun; sleep 1"))
    ferocal.quick("measure", "--rounds", "1")
    (ferocal.directory / "begun").unlink()
    ledger = ferocal.directory / LEDGER_FILE
    arguments = {"measure": ["--rounds", "2"], "note": ["dark"]}.get(command, [])
    if command == "measure":
        process = begin(ferocal, command, *arguments)
        wait_until((ferocal.directory / "begun").exists)
    with hold(ledger) as stranger:
        assert stranger.stdout is not None
        assert stranger.stdout.readline() == "held\n"
        if command == "measure":
            # The run is over, and its end waits to be recorded.
            wait_until(lambda: is_idle(process.pid))
        else:
            process = begin(ferocal, command, *arguments)
            wait_until(lambda: waits_for(process, ledger))
        begun = time.monotonic()
        os.killpg(process.pid, signal.SIGINT)
        out, err = process.communicate(timeout=PATIENCE)
        took = time.monotonic() - begun
        assert process.returncode == 130, err
        assert took < 30  # others are waited for for a minute
    if command == "measure":
        assert "measure.journal" in out + err
        journal = ferocal.directory / "measure.journal"
        assert journal.exists()
        ferocal.quick("measure", "--rounds", "2")
        assert not journal.exists()
        assert len([r for r in ferocal.json("runs")["run_list"] if r["outcome"] == "ok"]) == 8
    else:
        ferocal.quick("compare")


def waits_for(process: subprocess.Popen[str], ledger: Path) -> bool:
    """Whether a process has a ledger open."""
    return any(file.path == str(ledger) for file in psutil.Process(process.pid).open_files())


def is_idle(pid: int) -> bool:
    """Whether nothing is run for a while but what starts commands."""
    return all(len(psutil.Process(pid).children(recursive=True)) == 1 for _ in range(200))
