"""Execution of commands: accounting, limits, groups, observation."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.bench import execution
from ferocal.bench.commands import prepare
from ferocal.bench.conditions import BusyMeter
from ferocal.bench.execution import Executor, Invocation, LocalExecutor, Place, local_executor
from ferocal.study.base import Command
from test_measure import query, wait_until


@pytest.fixture(params=["launcher", "alone"])
def executor(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Executor]:
    """Both ways to run commands: with the launcher, and without, as on other systems."""
    if request.param == "alone":
        yield LocalExecutor(tmp_path, None, tmp_path)
        return
    with local_executor(tmp_path) as local:
        yield local


def shell(text: str, directory: Path, **settings: object) -> Invocation:
    return Invocation((text,), directory, shell=True, **settings)  # type: ignore[arg-type]


def test_output_status_and_environment_come_back(executor: Executor, tmp_path: Path) -> None:
    done = executor.run(
        shell("echo $DOME; echo oh >&2; pwd; exit 3", tmp_path, environment={"DOME": "north"})
    )
    assert done.text.splitlines() == ["north", str(tmp_path)]
    assert (done.stderr, done.exit_status, done.ended_for) == (b"oh\n", 3, None)
    assert done.failure == "ended with exit status 3"
    again = executor.run(shell("true", tmp_path))
    assert (again.stdout, again.failure) == (b"", None)


def test_a_program_that_is_not_there_is_told(executor: Executor, tmp_path: Path) -> None:
    done = executor.run(Invocation(("no-such-player",), tmp_path))
    assert done.exit_status is None
    assert "could not be started" in str(done.failure)
    assert "no-such-player" in str(done.failure)


def test_the_time_limit_ends_children_too(executor: Executor, tmp_path: Path) -> None:
    done = executor.run(shell("sleep 47 & echo $!; sleep 48", tmp_path, timeout=0.4))
    assert done.ended_for == "timeout"
    assert 0.4 <= done.wall < 40  # of the 47 and 48 s that it would have taken
    child = Path("/proc") / done.text.strip() / "exe"
    wait_until(lambda: not child.exists())


def test_what_is_left_behind_is_ended_unless_it_may_stay(tmp_path: Path) -> None:
    with local_executor(tmp_path) as local:
        ended = local.run(shell("sleep 30 & echo $!", tmp_path)).text.strip()
        kept = local.run(shell("sleep 30 & echo $!", tmp_path, then="keep")).text.strip()
    wait_until(lambda: not Path("/proc", ended, "exe").exists())
    assert Path("/proc", kept, "exe").exists()
    os.kill(int(kept), 9)


def test_wall_cpu_and_memory_are_those_of_the_tree(tmp_path: Path) -> None:
    hungry = (
        "import time, sys; data = bytearray(60 << 20); end = time.process_time() + 0.25\n"
        "while time.process_time() < end: pass"
    )
    with local_executor(tmp_path) as local:
        done = local.run(
            shell(f"sleep 0.6; {shlex.quote(sys.executable)} -S -c '{hungry}'", tmp_path)
        )
        idle = local.run(shell("true", tmp_path))
    assert 0.85 < done.wall < 60
    assert done.cpu is not None and 0.25 < done.cpu < 0.8
    assert done.peak_memory is not None and 62 < done.peak_memory / 2**20 < 80
    # A large Ferocal must not make a small program look large.
    ballast = bytearray(200 << 20)
    assert idle.peak_memory is not None and idle.peak_memory < 30 * 2**20 < len(ballast)
    # Of a program smaller than what starts it nobody knows how small it is.
    assert idle.peak_memory <= idle.memory_floor < done.peak_memory


def test_too_much_output_is_ended_and_a_long_one_is_read_at_both_ends(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(execution, "OUTPUT_LIMIT", 1_000_000)
    monkeypatch.setattr(execution, "READ_LIMIT", 1000)
    with local_executor(tmp_path) as local:
        endless = local.run(shell("yes", tmp_path, timeout=30))
        long = local.run(shell("echo first; seq 20000; echo last", tmp_path))
    assert endless.ended_for == "output"
    assert "wrote more than" in str(endless.failure)
    assert len(long.stdout) == 2000 < long.stdout_size
    assert long.stdout.startswith(b"first") and long.stdout.endswith(b"last\n")


def test_processes_are_observed_only_when_asked_for(tmp_path: Path) -> None:
    with local_executor(tmp_path) as local:
        seen = local.run(shell("sleep 1", tmp_path, observe=True)).processes
        short = local.run(shell("true", tmp_path, observe=True)).processes
        unseen = local.run(shell("sleep 0.1", tmp_path)).processes
    assert seen is not None and short is not None and unseen is None
    assert any(sight.program.endswith("/sleep") for sight in seen)
    assert all("libc" in " ".join(sight.libraries) for sight in seen)
    assert {sight.architecture for sight in seen} == {os.uname().machine}


def test_a_launcher_that_dies_is_an_error_and_not_a_hang(tmp_path: Path) -> None:
    from ferocal.errors import FerocalError

    with local_executor(tmp_path) as local, pytest.raises(FerocalError, match="ended unexpectedly"):
        local.run(shell("kill -9 $PPID; sleep 5", tmp_path))


def test_placeholders_and_prefixes_make_a_command(tmp_path: Path) -> None:
    words, place = Command(command="{python} {study}/play {scene}"), Place(tmp_path, sys.executable)
    plain = prepare(words, place, {"SHOW": "{study}/show"}, ("nice", "-n", "5"))
    assert plain.words == ("nice", "-n", "5", sys.executable, f"{tmp_path}/play", "{scene}")
    assert plain.environment == {"SHOW": f"{tmp_path}/show"}
    line = Command(command="play | tail -1", shell=True)
    assert prepare(line, place, {}).words == ("play | tail -1",)
    assert prepare(line, place, {}, ("nice",)).words == ("nice", "sh", "-c", "play | tail -1")


def test_a_quiet_stretch_names_nobody() -> None:
    meter = BusyMeter()
    meter.begin()
    assert meter.end(0.0).resolution > 1  # too short to tell
    meter.begin()
    time.sleep(0.3)
    share = meter.end(1e6).others  # a run that used everything leaves nothing to others
    assert share == 0.0


def test_what_an_earlier_command_left_running_writes_into_no_later_output(tmp_path: Path) -> None:
    service = "(sleep 0.4; echo score 1000; touch late; sleep 60) & echo started"
    with local_executor(tmp_path) as local:
        started = local.run(shell(service, tmp_path, then="keep"))
        during = local.run(shell("while ! test -e late; do sleep 0.05; done; echo mine", tmp_path))
        after = local.run(shell("echo mine", tmp_path))
        assert started.stdout == b"started\n"
        assert (during.stdout, after.stdout) == (b"mine\n", b"mine\n")
        assert started.left_behind and not during.left_behind
    for process in psutil.process_iter(["cmdline"]):
        if process.info["cmdline"] == ["sleep", "60"]:
            process.kill()


@pytest.mark.skipif(sys.platform != "linux", reason="only Linux lets orphans be adopted")
def test_a_process_in_a_session_of_its_own_is_found_ended_and_told(tmp_path: Path) -> None:
    escape = "setsid sh -c 'echo $$ > pid; touch there; sleep 71' & "
    wait = "while ! test -e there; do sleep 0.02; done"
    with local_executor(tmp_path) as local:
        ended = local.run(shell(escape + wait, tmp_path))
        assert ended.left_behind and set(ended.left_behind) <= {"sh", "sleep"}
        assert not Path("/proc", (tmp_path / "pid").read_text().strip(), "exe").exists()
        # So it is after the time limit, and however deep in the tree.
        (tmp_path / "there").unlink()
        deep = f"( ( {escape} ) & ) ; {wait}; sleep 72"
        over = local.run(shell(deep, tmp_path, timeout=3))
        assert over.ended_for == "timeout"
        assert over.left_behind and set(over.left_behind) <= {"sh", "sleep"}
        kept = local.run(shell("setsid sleep 73 & sleep 0.2", tmp_path, then="keep"))
        assert kept.left_behind
        assert local.run(shell("true", tmp_path)).left_behind == ()
    left = [p for p in psutil.process_iter(["cmdline"]) if p.info["cmdline"] in (
        ["sleep", "71"], ["sleep", "72"], ["sleep", "73"]
    )]  # fmt: skip
    assert [p.info["cmdline"][1] for p in left] == ["73"]
    left[0].kill()


@pytest.mark.skipif(not hasattr(os, "sched_setaffinity"), reason="needs affinities")
def test_the_processors_that_a_run_may_use_are_read_from_it(tmp_path: Path) -> None:
    pin = "import os, time; os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})"
    with local_executor(tmp_path) as local:
        pinned = local.run(Invocation((sys.executable, "-c", pin), tmp_path))
        free = local.run(shell("true", tmp_path))
    assert pinned.processors == 1
    assert free.processors == len(os.sched_getaffinity(0))


SIZED = """
[study]
question = "?"
margin = "5 %"
rounds = 3
runs = 1
SETTING
[factor.mode.level.off]
[factor.mode.level.much]
environment = { LONG = "VALUE" }
[workload.flight]
command = ["{python}", "-c", "import os; print(len(''.join(map(''.join, os.environ.items()))))"]
[workload.flight.metric.size]
unit = "B"
better = "lower"
source = { pattern = "([0-9]+)" }
"""


@pytest.mark.parametrize("setting", ["", "pad-environment = false"])
def test_the_environment_has_one_size_in_all_arms_and_a_random_one_per_visit(
    ferocal: Ferocal, setting: str
) -> None:
    ferocal.write(SIZED.replace("SETTING", setting).replace("VALUE", "x" * 900))
    ferocal.quick("measure")
    size = {
        (run["configuration"], run["round"]): run["values"]["size"]["value"]
        for run in ferocal.json("runs")["run_list"]
    }
    padding = {
        (name, number): extra
        for name, number, extra in query(ferocal, "SELECT configuration, round, padding FROM visit")
    }
    if setting:
        assert set(padding.values()) == {None}
        assert all(size["much", number] - size["off", number] > 890 for number in (1, 2, 3))
    else:
        common = {size[place] - extra for place, extra in padding.items()}
        # Names of variables differ in number, and so the ends between them.
        assert max(common) - min(common) <= 2
        assert len(set(size.values())) == 6 and 0 <= min(padding.values()) < 4096


# Runs a request in a launcher whose signals are watched.
_WATCHED = """
import json, os, sys, time
from ferocal.bench import launcher
tree, kill, killpg = launcher._Tree(), os.kill, os.killpg
launcher._PATIENCE, groups = 0.2, []

def signal_group(leader, number):
    # A leader that was waited for is gone, and its number may be somebody else's.
    alive = os.waitid(os.P_PID, leader, os.WEXITED | os.WNOHANG | os.WNOWAIT)
    groups.append(alive is not None)
    killpg(leader, number)

os.killpg = signal_group
if sys.argv[2] == "unkillable":
    os.kill = lambda *_: None
request = dict(words=[sys.argv[1]], shell=True, cwd=".", environment=dict(os.environ), timeout=60,
               stdout="out", stderr="err", output_limit=10**6, then="end", announce=False)
waiter = launcher._Waiter(os.pipe()[0], None)
begun = time.monotonic()
outputs = tuple(open(name, "x+b") for name in ("out", "err"))
answer = launcher._execute(request, outputs, waiter, tree, launcher.Side())
took, os.kill = time.monotonic() - begun, kill
tree.kept.clear()
tree.end_strays()
print(json.dumps([groups, answer["unended"], took]))
"""


@pytest.mark.skipif(sys.platform != "linux", reason="only Linux lets the launcher adopt")
@pytest.mark.parametrize("how", ["killable", "unkillable"])
def test_a_group_is_ended_before_its_leader_is_reaped_and_strays_are_given_up(
    tmp_path: Path, how: str
) -> None:
    stray = "setsid sh -c 'echo > ready; exec sleep 300'"
    command = f"{stray} & sleep 300 & until [ -e ready ]; do :; done; exit 0"
    done = subprocess.run(
        [sys.executable, "-c", _WATCHED, command, how], cwd=tmp_path, capture_output=True,
        text=True, timeout=PATIENCE, check=True,
    )  # fmt: skip
    groups, unended, took = json.loads(done.stdout)
    assert groups == [True]
    assert bool(unended) == (how == "unkillable"), unended
    assert took < 60


# What a process that `switch` has left does to the run beside it, in Python.
_INTERFERE = {
    "scratch": """
for path in glob.glob(os.environ["TMPDIR"] + "/ferocal-*/*"):
    open(path, "w").write("score 999\\n")
""",
    "descriptor": """
for entry in filter(str.isdecimal, os.listdir("/proc")):
    try:
        if b"run-of-flight" in open(f"/proc/{entry}/cmdline", "rb").read():
            held.append(open(f"/proc/{entry}/fd/1", "r+"))
            held[-1].write("score 999\\n"); held[-1].flush()
    except OSError:
        pass
""",
    "trace": """
if os.path.exists("frames.csv"):
    held.append(open("frames.csv", "a")); held[-1].write("999\\n" * 50); held[-1].flush()
""",
}
_INTERFERING = """
[study]
question = "Does anybody interfere?"
margin = "5 %"
rounds = 1
[factor.mode.level.off]
switch = "{python} {study}/service.py"
[factor.mode.level.on]
[workload.flight]
shell = true
timeout = "20 s"
command = "rm -f frames.csv; seq 11 60 > frames.csv; echo score 100; sleep 0.6 # run-of-flight"
metric.score = { unit = "points", better = "higher", source = { pattern = "score ([0-9]+)" } }
metric.frames = { unit = "ms", kind = "frames", source = { file = "frames.csv" } }
"""


@pytest.mark.skipif(sys.platform != "linux", reason="only Linux shows who has a file open")
@pytest.mark.parametrize("how", _INTERFERE)
def test_what_a_switch_left_running_changes_no_reading(
    ferocal: Ferocal, tmp_path: Path, how: str
) -> None:
    ferocal.write(_INTERFERING)
    body = "\n".join(f"    {line}" for line in _INTERFERE[how].splitlines())
    (ferocal.directory / "service.py").write_text(
        "import glob, os, subprocess, sys, time\n"
        "if len(sys.argv) == 1:\n"
        "    subprocess.Popen([sys.executable, __file__, 'on'], start_new_session=True,\n"
        "                     stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)\n"
        "    sys.exit()\n"
        f"held, end = [], time.monotonic() + 20\nwhile time.monotonic() < end:\n{body}\n"
        "    time.sleep(0.05)\n"
    )
    (tmp_path / "temporary").mkdir()
    try:
        done = subprocess.run(
            [PROGRAM, "measure"], cwd=ferocal.directory, capture_output=True, text=True,
            env={**surroundings(), "TMPDIR": str(tmp_path / "temporary")}, check=False,
            timeout=PATIENCE,
        )  # fmt: skip
    finally:
        for process in psutil.process_iter(["cmdline"]):
            if f"{ferocal.directory}/service.py" in (process.info["cmdline"] or ()):
                process.kill()
    assert done.stdout.count("which lives on beside the runs") == 1
    runs = ferocal.json("runs")["run_list"]
    values = [value for run in runs for name, value in run["values"].items() if "score" in name]
    assert 999 not in values
    if how == "scratch":
        assert [run["outcome"] for run in runs] == ["ok"] * len(runs)
    else:
        assert {run["outcome"] for run in runs} == {"failed"}, runs


def test_what_a_step_before_a_run_started_ends_with_it(ferocal: Ferocal) -> None:
    ferocal.write(
        _INTERFERING.replace('switch = "{python} {study}/service.py"', "").replace(
            'timeout = "20 s"',
            "before = \"sh -c 'sleep 97 & echo $! > pid'\"\n"
            "after = \"sh -c 'test -e /proc/$(cat pid) && touch alive'\"",
        )
    )
    ferocal("measure")
    # It lives until the last step after the run, which may want to end it in its own way.
    assert (ferocal.directory / "alive").exists()
    assert not Path("/proc", (ferocal.directory / "pid").read_text().strip(), "exe").exists()


def test_a_workload_that_stops_what_takes_its_time_fails_and_nothing_hangs(tmp_path: Path) -> None:
    with local_executor(tmp_path) as local:
        done = local.run(shell("kill -STOP $PPID; sleep 0.2; echo score 1", tmp_path, timeout=20))
        assert "was stopped meanwhile" in str(done.failure)
        assert local.run(shell("echo score 1", tmp_path)).failure is None


@pytest.mark.parametrize(
    ("command", "source", "told"),
    [
        ("mkfifo t.csv", '{ file = "t.csv" }', "t.csv is not a regular file"),
        ("truncate -s 2G t.csv", '{ file = "t.csv" }', "and is read up to"),
        ("echo $(head -c 60 /dev/zero | tr '\\\\0' a)b", "pattern", "time limit of the workload"),
    ],
)
def test_the_time_limit_holds_for_reading_too(
    ferocal: Ferocal, command: str, source: str, told: str
) -> None:
    metric = (
        'metric.score = { unit = "points", better = "higher", source = { pattern = "^(a+)+$" } }'
        if source == "pattern"
        else f'metric.frames = {{ unit = "ms", kind = "frames", source = {source} }}'
    )
    ferocal.write(
        '[study]\nquestion = "Is it read?"\nmargin = "5 %"\nrounds = 1\nruns = 1\n'
        "[factor.mode.level.off]\n[factor.mode.level.on]\n"
        f'[workload.flight]\nshell = true\ntimeout = "2 s"\ncommand = "rm -f t.csv; {command}"\n'
        f"{metric}\n"
    )
    ferocal("measure", status=1)
    assert all(told in run["reason"] for run in ferocal.json("runs")["run_list"])
