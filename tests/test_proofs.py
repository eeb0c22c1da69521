"""What proves a level: what runs report, what their processes show, and what must not be there."""

from __future__ import annotations

import json
import shlex
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ferocal
from ferocal.bench import conversation
from ferocal.bench.execution import local_executor
from test_circumstances import caveats_of, replaced
from test_execution import shell
from test_measure import query, valid_runs

Study = Callable[..., Ferocal]
REPORT = """echo score $GAIN; printf '{"agent": "Wren/7", "clock": %s}' $GAIN"""


HOLDS = [
    'reported = "/agent", contains = "Wren/"',
    'reported = "/agent", lacks = "Pelican"',
    'reported = "/clock", at-least = 120',
]
FAILS = {
    'reported = "/clock", at-most = 119.5': 'reported /clock at most 119.5, seen "120"',
    'reported = "/agent", at-least = 1': 'reported /agent at least 1, seen "Wren/7"',
    'reported = "/agent", lacks = "Wren"': 'reported /agent lacks "Wren", seen "Wren/7"',
    'reported = "/jit", equals = "on"': 'reported /jit equals "on", seen nothing: nothing at',
}


def checked(*checks: str) -> str:
    """The checks of a level."""
    return f"verify = [{', '.join(f'{{ {check} }}' for check in checks)}]"


def test_what_every_run_reports_proves_or_disproves(small_study: Study) -> None:
    ferocal = small_study(rounds=1, verify=checked(*HOLDS), command=REPORT)
    ferocal.quick("measure", "--level", "mode=on")
    (checks,) = query(ferocal, "SELECT checks FROM visit")
    assert [c["holds"] for c in json.loads(checks[0])] == [True] * 3
    small_study(rounds=2, verify=checked(*HOLDS, *FAILS), command=REPORT)
    status, _, error = ferocal.attempt("measure", "--level", "mode=on")
    assert status == 1 and len(valid_runs(ferocal)) == 1
    for told in FAILS.values():
        assert f"mode=on is not active: expected {told}" in error
    assert error.count("is not active: ") == 4


def test_a_run_that_reports_otherwise_later_sets_the_visit_aside(small_study: Study) -> None:
    line = """echo score $GAIN; printf '{"agent": "%s"}' $(cat browser)"""
    ferocal = small_study(
        rounds=1,
        runs=3,
        verify='verify = [{ reported = "/agent", equals = "Wren" }]',
        command=f"{line}; test -e updated && echo Pelican > browser; touch updated",
    )
    (ferocal.directory / "browser").write_text("Wren\n")
    error = ferocal.attempt("measure", "--level", "mode=on")[2]
    assert 'reported /agent equals "Wren", seen "Pelican"' in error
    assert not ferocal.json("table")["cells"] and len(ferocal.json("runs")["run_list"]) == 3
    # What held twice is kept once, beside what did not.
    (checks,) = query(ferocal, "SELECT checks FROM visit")
    assert [c["holds"] for c in json.loads(checks[0])] == [True, False]


@pytest.mark.skipif(sys.platform != "linux", reason="processes are observed through /proc")
def test_processes_in_sessions_of_their_own_are_looked_at(small_study: Study) -> None:
    """As a browser is that its driver starts, to end it with all that it has started."""
    command = "setsid sh -c 'exec 7> open-here; sleep 1; :' & wait; echo score $GAIN"
    holding = (
        'running = "files", contains = "/open-here"',
        'running = "root", equals = "/"',
        'running = "libraries", lacks = "preloaded"',
    )
    ferocal = small_study(rounds=1, verify=checked(*holding), command=command)
    ferocal.quick("measure", "--level", "mode=on")
    failing = {
        'running = "files", lacks = "/open-here"': "/open-here",
        'running = "root", equals = "/userland"': 'workload equals "/userland", seen "/"',
        'running = "libraries", lacks = "libc.so"': "libc.so",
    }
    small_study(rounds=2, verify=checked(*failing), command=command)
    status, _, error = ferocal.attempt("measure", "--level", "mode=on")
    assert status == 1 and error.count("is not active: ") == 3
    assert all(seen in error for seen in failing.values())


@pytest.mark.skipif(sys.platform != "linux", reason="processes are observed through /proc")
@pytest.mark.parametrize("second", ["sleep 1", "true"])
def test_a_run_too_short_to_be_observed_leaves_it_to_the_next(
    small_study: Study, monkeypatch: pytest.MonkeyPatch, second: str
) -> None:
    """The first run ends at once; what nobody saw proves nothing, and disproves nothing."""
    monkeypatch.setattr(conversation, "_FIRST_LOOK", 0.4)
    ferocal = small_study(
        rounds=1,
        runs=2,
        verify='verify = [{ running = "program", contains = "/" }]',
        command=f"test -e once && {second}; touch once; echo score 9",
    )
    status, _, error = ferocal.attempt("measure", "--level", "mode=on")
    assert status == (second == "true")
    assert len(ferocal.json("runs")["run_list"]) == 2
    if status:
        assert "all runs of flight ended before they could be observed; lengthen them" in error


def test_what_lost_its_parent_is_accounted_for(tmp_path: Path) -> None:
    """Whoever ends a group of processes waits for one of them; the others were its work too."""
    hungry = "import time; data = bytearray(80 << 20)\nwhile time.process_time() < 0.4: pass"
    (tmp_path / "work.py").write_text(f"{hungry}\nopen('done', 'w').close()\ntime.sleep(60)")
    driver = (
        "import os, signal, subprocess, sys, time\n"
        "words = ['sh', '-c', '\"$0\" work.py; :', sys.executable]\n"
        "shell = subprocess.Popen(words, start_new_session=True)\n"
        "while not os.path.exists('done'): time.sleep(0.02)\n"
        "os.killpg(shell.pid, signal.SIGKILL)\nshell.wait()\n"
    )
    (tmp_path / "drive.py").write_text(driver)
    with local_executor(tmp_path) as local:
        done = local.run(shell(f"{shlex.quote(sys.executable)} -S drive.py", tmp_path))
        after = local.run(shell("true", tmp_path))
    assert done.failure is None and done.cpu is not None and done.peak_memory is not None
    assert 0.4 < done.cpu < 2 and done.peak_memory > 80 * 2**20
    assert after.cpu is not None and after.cpu < 0.2


@pytest.mark.skipif(sys.platform != "linux", reason="only Linux lets a process adopt others")
def test_what_ends_while_it_is_looked_for_is_accounted_for() -> None:
    """Between the wait for what has ended and the look at what is left, anything may end."""
    program = """
import os, signal, subprocess, sys
from ferocal.bench import launcher
busy = "import time\\nwhile time.process_time() < 0.1: pass\\nprint(1, flush=True); time.sleep(60)"
tree, look = launcher._Tree(), launcher.processes
child = subprocess.Popen([sys.executable, "-c", busy], stdout=subprocess.PIPE)
child.stdout.readline()
def late():
    os.kill(child.pid, signal.SIGKILL)
    os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOWAIT)
    launcher.processes = look
    return look()
launcher.processes = late
assert tree.end_strays() == [] and tree.cpu > 0.1
"""
    subprocess.run([sys.executable, "-c", program], check=True)


def test_what_the_study_needs_is_prepared_once_a_session(small_study: Study) -> None:
    ferocal = small_study(
        rounds="2\nprepare = [\"sh -c 'echo 5 > built; echo x >> sessions'\"]",
        verify='verify = [{ command = "cat built", equals = "5" }]',
        command="cat built > /dev/null && echo score $GAIN",
    )
    sessions = ferocal.directory / "sessions"
    ferocal.quick("measure", "--rounds", "1")
    ferocal.quick("measure")
    ferocal.quick("measure")  # nothing is left to be done
    assert sessions.read_text().split() == ["x", "x"]
    (steps,) = query(ferocal, "SELECT count(*) FROM step WHERE kind = 'prepare'")
    assert steps[0] == 2
    replaced(ferocal, "echo 5 > built", "echo 5 > built; exit 3")
    error = ferocal.attempt("measure", "--rounds", "3")[2]
    assert "prepare failed" in error and "ended with exit status 3" in error
    assert "`prepare` has changed since" in caveats_of(ferocal)["definition-changed"]


def test_a_probe_need_not_be_behind_the_prefix(small_study: Study) -> None:
    probe = (
        '[bench.node.probe.shell]\nkind = "software"\ncommand = "sh -c \'echo ${WRAPPED:-no}\'"\n'
    )
    ferocal = small_study(rounds=1, verify='prefix = ["env", "WRAPPED=yes"]')
    text = (ferocal.directory / "study.toml").read_text() + probe
    for line, differs in (("", True), ("with-prefix = false\n", False)):
        ferocal.write(text + line)
        (ferocal.directory / "ledger.sqlite").unlink(missing_ok=True)
        ferocal.quick("measure")
        assert ("undeclared-difference" in caveats_of(ferocal)) is differs


def test_of_a_small_program_only_a_bound_of_its_memory_is_known(small_study: Study) -> None:
    """Two programs that are smaller than what starts them are not equal for that."""
    ferocal = small_study(rounds=5, command="true")
    replaced(ferocal, 'unit = "points"', 'unit = "MiB"')
    replaced(ferocal, 'better = "higher"', 'better = "lower"')
    replaced(ferocal, 'source = { pattern = "score ([0-9.]+)" }', 'source = "peak-memory"')
    ferocal.quick("measure")
    assert {cell["bound"] for cell in ferocal.json("table")["cells"]} == {"<"}
    effect = ferocal.effect()
    assert effect["verdict"] == "inconclusive" and effect["change"] is None
