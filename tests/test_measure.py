"""Measuring through the installed program: real processes, real crashes."""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pexpect
import psutil
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.bench.conditions import BusyMeter
from ferocal.cli.progress import LineObserver
from ferocal.measure.settle import settle
from ferocal.study.benches import Settle

Study = Callable[..., Ferocal]


def query(ferocal: Ferocal, sql: str) -> list[Any]:
    connection = sqlite3.connect(ferocal.directory / "ledger.sqlite")
    rows = connection.execute(sql).fetchall()
    connection.close()
    return rows


def valid_runs(ferocal: Ferocal) -> list[Any]:
    return query(
        ferocal,
        "SELECT v.round, v.configuration, r.workload, r.number FROM run r"
        " JOIN visit v ON v.id = r.visit_id WHERE r.outcome = 'ok' AND NOT r.warmup",
    )


def start(ferocal: Ferocal) -> subprocess.Popen[bytes]:
    """`ferocal measure`, left running."""
    return subprocess.Popen(
        [PROGRAM, "measure"],
        cwd=ferocal.directory,
        env=surroundings(),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )


def wait_until(condition: Callable[[], bool], seconds: float = PATIENCE) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.02)


def test_a_study_from_new_to_report(ferocal: Ferocal) -> None:
    assert "ferocal measure" in ferocal.quick("new", ".")
    before = (ferocal.directory / "study.toml").read_text()
    assert "was not changed" in ferocal.refusal("new", ".")
    ferocal.write(before.replace("400_000", "4_000"))
    assert "nothing recorded yet" in ferocal("table", status=1).stderr
    assert "took 12 runs" in ferocal.quick("measure", "--rounds", "2")
    assert "everything is measured: 12 runs" in ferocal.quick("measure", "--rounds", "2")
    assert "took 6 runs" in ferocal.quick("measure", "--rounds", "3")
    cells = ferocal.json("table")["cells"]
    assert {(c["metric"], c["runs"], c["rounds"]) for c in cells} == {
        ("rate", 9, 3), ("peak-memory", 9, 3),
    }  # fmt: skip
    assert all(5 < c["centre"] < 100 for c in cells if c["metric"] == "peak-memory")
    assert ferocal("report").stdout.strip().endswith("report.html")


def test_compare_prints_the_documented_object(small_study: Study) -> None:
    ferocal = small_study(rounds=5)
    ferocal.quick("measure")
    result = json.loads(ferocal.quick("compare", "--json"))
    assert result["baseline"] == "off"
    assert (result["confidence"], result["margin"]) == (0.95, 0.05)
    (effect,) = result["effects"]
    assert effect["change"] == pytest.approx(0.2, abs=0.01)
    assert effect["low"] < effect["change"] < effect["high"]
    assert effect["verdict"] == "better"
    assert (effect["rounds"], effect["runs"]) == (5, 10)
    required = "bench workload metric unit better baseline configuration p_adjusted caveats"
    assert set(required.split()) < set(effect)
    text = ferocal.quick("compare")
    assert text.splitlines()[2].startswith("on  better: flight +")


def test_every_source_is_read(ferocal: Ferocal) -> None:
    ferocal.write(
        """
        [study]
        question = "?"
        margin = "5 %"
        rounds = 1
        runs = 1
        [factor.a.level.x]
        prefix = "env PREFIXED=1"
        [factor.a.level.y]
        [workload.w]
        command = ["{python}", "-c", '''
import os, json, time
print("log line")
data = bytearray(50 << 20); end = time.process_time() + 0.2
while time.process_time() < end: pass
time.sleep(0.6)
print(json.dumps({"a/b": [1, {"c": 7 + int(os.environ.get("PREFIXED", "0"))}]}))''']
        [workload.w.metric]
        wall = { unit = "ms", better = "lower", source = "wall-time" }
        cpu = { unit = "s", better = "lower", source = "cpu-time" }
        memory = { unit = "MiB", better = "lower", source = "peak-memory" }
        json = { unit = "n", better = "lower", source = { json = "/a~1b/1/c" } }
        text = { unit = "n", better = "lower", source = { pattern = '"c": (\\d+)' } }
        """
    )
    ferocal.quick("measure")
    rows = query(
        ferocal,
        "SELECT v.configuration, m.name, g.value FROM reading g JOIN metric m ON m.id = g.metric_id"
        " JOIN run r ON r.id = g.run_id JOIN visit v ON v.id = r.visit_id",
    )
    seen = {(configuration, name): value for configuration, name, value in rows}
    assert (seen["x", "json"], seen["y", "json"]) == (8, 7)
    assert seen["x", "text"] == 8
    assert 800 < seen["y", "wall"] < 60_000
    assert 0.2 < seen["y", "cpu"] < 0.75
    assert 55 < seen["y", "memory"] < 75
    (output,) = query(ferocal, "SELECT count(*) FROM output WHERE stream = 'stdout'")
    assert output == (2,)


FAILURES = {
    "errs": ("echo oh dear >&2; exit 3", "failed", "exit status 3: oh dear"),
    "hangs": ("sleep 60 & sleep 60", "timeout", "time limit"),
    "says-nothing": ("echo score none", "failed", "nothing in the output matches"),
    "says-two": ("echo score 1; echo score 2", "failed", "2 places in the output"),
    "is-not-there": ("exec /nonexistent/player", "failed", "exit status 127"),
}


def test_a_failing_run_is_recorded_and_the_rest_goes_on(small_study: Study) -> None:
    ferocal = small_study(rounds=1, workload='timeout = "300 ms"')
    text = (ferocal.directory / "study.toml").read_text()
    table = text[text.index("[workload.flight]") :]
    failing = "if [ $GAIN = 120 ]; then {}; else echo score 1; fi"
    good = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
    ferocal.write(
        text
        + "".join(
            table.replace("workload.flight", f"workload.{name}").replace(
                good, failing.format(command)
            )
            for name, (command, _, _) in FAILURES.items()
        )
    )
    errors = ferocal.quick("measure", status=1)
    outcomes = dict(query(ferocal, "SELECT workload, outcome FROM run WHERE outcome != 'ok'"))
    for name, (_, outcome, reason) in FAILURES.items():
        assert outcomes.pop(name) == outcome
        (line,) = (line for line in errors.splitlines() if f"round 1, on, {name}, run 1" in line)
        assert reason in line
    assert outcomes == {}
    assert len(valid_runs(ferocal)) == 2 + len(FAILURES)
    assert "everything is measured" in ferocal.quick("measure")
    ferocal.write((ferocal.directory / "study.toml").read_text().replace("= 120", "= 121"))
    assert "took 5 runs" in ferocal.quick("measure", "--retry")
    assert len(set(valid_runs(ferocal))) == len(valid_runs(ferocal)) == 12
    left = [p.info["cmdline"] for p in psutil.process_iter(["cmdline"])]
    assert ["sleep", "60"] not in left


def test_an_output_of_100_mb_is_bounded(small_study: Study) -> None:
    ferocal = small_study(
        rounds=1, command="head -c 100000000 /dev/urandom | base64 -w 99; echo score $GAIN"
    )
    ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == 2
    assert query(ferocal, "SELECT min(size) > 1e8 FROM output") == [(1,)]
    assert (ferocal.directory / "ledger.sqlite").stat().st_size < 4e6


def test_a_configuration_that_is_not_active_is_not_measured(small_study: Study) -> None:
    verify = 'verify = [{ command = "cat driver", equals = "64.0" }]'
    ferocal = small_study(verify=verify)
    driver = ferocal.directory / "driver"
    driver.write_text("61.4\n")
    error = ferocal.quick("measure", status=1)
    assert 'mode=on is not active: expected equals "64.0", seen "61.4"' in error
    assert all(configuration == "off" for _, configuration, _, _ in valid_runs(ferocal))
    driver.write_text("64.0\n")
    ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == 8
    driver.unlink()
    assert "exit status 1" in ferocal.quick("measure", "--rounds", "5", status=1)


def runs_begun(ferocal: Ferocal) -> int:
    try:
        return int(query(ferocal, "SELECT count(*) FROM run")[0][0])
    except sqlite3.OperationalError:  # no tables yet, or just being written
        return 0


def test_sigkill_at_10_moments_loses_at_most_the_run_in_progress(small_study: Study) -> None:
    ferocal = small_study(rounds=12, runs=2, command="sleep 0.05; echo score $GAIN")
    rng = random.Random(3)
    begun = 0
    for number in range(10):
        process = start(ferocal)
        # Now and then before any run has begun, else in the middle of some.
        if number % 5:
            wait_until(lambda: runs_begun(ferocal) > begun or process.poll() is not None)  # noqa: B023
        time.sleep(0.25 * rng.random())
        process.kill()
        process.wait()
        begun = runs_begun(ferocal)
    ferocal.quick("measure")
    runs = valid_runs(ferocal)
    assert len(runs) == len(set(runs)) == 48
    assert query(ferocal, "PRAGMA integrity_check") == [("ok",)]
    counts = dict(query(ferocal, "SELECT outcome, count(*) FROM run GROUP BY outcome"))
    assert "running" not in counts
    assert 1 <= counts["interrupted"] <= 10


def test_the_workload_does_not_outlive_a_killed_ferocal(small_study: Study) -> None:
    ferocal = small_study(command="echo $$ > pid; sleep 100; echo score 1")
    process = subprocess.Popen(
        [PROGRAM, "measure"], cwd=ferocal.directory, stdout=subprocess.DEVNULL
    )
    file = ferocal.directory / "pid"
    wait_until(lambda: file.exists() and file.read_text().strip() != "")
    process.kill()
    process.wait()
    workload = Path("/proc") / file.read_text().strip()
    wait_until(lambda: not workload.exists())


class Thermometer:
    """Stands in for the sensors of a machine that cools down a degree at every look."""

    meter = BusyMeter

    def __init__(self, celsius: float) -> None:
        self.celsius = celsius

    def conditions(self) -> dict[str, Any]:
        self.celsius -= 1
        return {"temperature_celsius": self.celsius, "load": 0.1}


def test_a_warm_machine_is_waited_for_until_it_has_cooled_down() -> None:
    observer = LineObserver(lambda question: None)
    cooling = Thermometer(62.0)
    assert settle(Settle.model_validate({"temperature-below": 60}), cooling, observer) == []  # type: ignore[arg-type]
    assert cooling.celsius < 60
    hot = {"temperature-below": 20, "timeout": "100 ms"}
    (message,) = settle(Settle.model_validate(hot), Thermometer(90.0), observer)  # type: ignore[arg-type]
    assert (
        message.startswith("not settled within 0.1 s: temperature, °C ") and "below 20" in message
    )


def test_a_measuring_study_takes_notes_exclusions_and_comparisons(small_study: Study) -> None:
    """Writers and readers beside `measure`: nothing fails and nothing is lost."""
    ferocal = small_study(rounds=25, runs=2, command="echo score $GAIN.$((FEROCAL_VISIT % 3))")
    process = start(ferocal)
    wait_until(lambda: len(valid_runs(ferocal)) > 4 if runs_begun(ferocal) else False)
    ids = [run["id"] for run in ferocal.json("runs")["run_list"][:4]]
    notes = 0
    with ThreadPoolExecutor(4) as pool:
        marks = [pool.submit(ferocal, "exclude", run, "--reason", "door was open") for run in ids]
        while process.poll() is None:
            made = [pool.submit(ferocal, "note", f"note {notes + n}") for n in range(3)]
            made.append(pool.submit(ferocal, "compare"))
            for done in made:
                done.result()
            notes += 3
        for mark in marks:
            mark.result()
    assert process.returncode == 0
    assert notes >= 3
    assert len(valid_runs(ferocal)) == len(set(valid_runs(ferocal))) == 100
    kept = ferocal.json("note")["notes"]
    assert {note["text"] for note in kept} == {f"note {n}" for n in range(notes)}
    assert len(ferocal.json("runs", "--excluded")["run_list"]) == 4
    assert query(ferocal, "PRAGMA integrity_check") == [("ok",)]


def test_ctrl_c_on_a_terminal_ends_cleanly_and_goes_on(small_study: Study) -> None:
    # The third run lasts until it is interrupted, however slow this machine is.
    hold = "echo >> begun; [ -e go ] || [ $(wc -l < begun) -lt 3 ] || "
    ferocal = small_study(rounds=4, command=f"{hold} sleep 600; echo score $GAIN")
    terminal = pexpect.spawn(
        PROGRAM,
        ["measure"],
        cwd=str(ferocal.directory),
        encoding="utf-8",
        dimensions=(24, 100),
        env=surroundings(),
    )
    terminal.expect("round 2 of 4", timeout=PATIENCE)
    terminal.sendintr()
    terminal.expect("interrupted; .* resume with", timeout=PATIENCE)
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 130
    assert "running" not in {row[0] for row in query(ferocal, "SELECT outcome FROM run")}
    (ferocal.directory / "go").touch()
    assert "resuming: " in ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == len(set(valid_runs(ferocal))) == 8


def test_a_second_measure_is_refused(small_study: Study) -> None:
    ferocal = small_study(command="sleep 20; echo score 1")
    first = start(ferocal)
    wait_until(lambda: (ferocal.directory / "measure.lock").exists())
    wait_until(lambda: str(first.pid) in ferocal.quick("measure", status=1))
    error = ferocal.quick("measure", status=1)
    assert "`ferocal measure` is already running" in error
    assert str(ferocal.directory) in error
    first.send_signal(signal.SIGINT)
    assert first.wait(20) == 130


def test_a_ledger_of_a_newer_or_no_ferocal_is_refused(small_study: Study) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    ferocal.edit("UPDATE about SET value = '99'", sealed=False)
    assert "schema version 99" in ferocal.quick("compare", status=1)
    (ferocal.directory / "ledger.sqlite").write_bytes(b"not a database at all" * 99)
    assert "not a database" in ferocal.quick("measure", status=1)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_full_disk_ends_with_an_error_and_an_intact_ledger(small_study: Study) -> None:
    noise = "head -c 200000 /dev/urandom | base64 -w0; echo; echo score $GAIN"
    ferocal = small_study(rounds=9, command=noise)
    text = (ferocal.directory / "study.toml").read_text()
    mount = ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(ferocal.directory)]
    if subprocess.run(mount, check=False).returncode:
        pytest.skip("mounting is not allowed here")
    try:
        ferocal.write(text)
        error = ferocal.quick("measure", status=1)
        assert "cannot be written" in error
        assert "full" in error
        assert query(ferocal, "PRAGMA integrity_check") == [("ok",)]
        assert len(valid_runs(ferocal)) >= 2
    finally:
        subprocess.run(["umount", str(ferocal.directory)], check=True)
