"""Switching, holding, proving and surveying a bench, through the installed program."""

from __future__ import annotations

import contextlib
import json
import os
import platform
import re
import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pexpect
import pytest
from statsmodels.stats.power import TTestPower

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from test_measure import query, valid_runs

Study = Callable[..., Ferocal]
ROOT = Path(__file__).parent.parent

# A bench in files: `driver` is what is active, `steps` is what was done to it.
STUDY = """
[study]
question = "Is r64 smoother?"
margin = "5 %"
runs = 1
{head}
{bench}
[factor.driver.level.r61]
{r61}
[factor.driver.level.r64]
{r64}
[factor.api.level.opengl]
{opengl}
[factor.api.level.vulkan]
{vulkan}
[configuration]
{configuration}
[workload.flight]
shell = true
command = "{command}"
{workload}
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = "score ([0-9.]+)" }}
"""
SWITCHED = (
    'switch = {{ command = "echo switch {0} >> steps; echo {0} > driver", shell = true }}\n'
    'leave = {{ command = "echo leave {0} >> steps", shell = true }}\n'
    'renew = {{ command = "echo renew {0} >> steps", shell = true }}\n'
    'verify = [{{ command = "cat driver", equals = "{0}" }}]'
)
HELD = 'hold = "Flash {0}, then reboot."\nverify = [{{ command = "cat driver", equals = "{0}" }}]'
ONE_FACTOR = 'design = "one-factor"\nimpossible = [{ driver = "r61", api = "vulkan" }]'


@pytest.fixture
def bench_study(ferocal: Ferocal) -> Study:
    def write(**values: str) -> Ferocal:
        defaults = dict.fromkeys(
            ("head", "bench", "r61", "r64", "opengl", "vulkan", "configuration", "workload"), ""
        )
        defaults["command"] = "echo score 1$((FEROCAL_VISIT % 3))"
        ferocal.write(STUDY.format(**{**defaults, **values}))
        return ferocal

    return write


def steps(ferocal: Ferocal) -> list[str]:
    return (ferocal.directory / "steps").read_text().splitlines()


def set_driver(ferocal: Ferocal, name: str) -> None:
    (ferocal.directory / "driver").write_text(name)


def test_only_what_changes_is_switched_and_stays_are_renewed(bench_study: Study) -> None:
    ferocal = bench_study(
        head='schedule = "return"\nvisits = 2',
        r61=SWITCHED.format("r61"),
        r64=SWITCHED.format("r64"),
        configuration='impossible = [{ driver = "r64", api = "opengl" }]',
    )
    plan = ferocal.quick("plan")
    assert "8 visits, 3 switches, 8 runs" in plan
    assert "impossible, and skipped: r64+opengl" in plan
    assert "not interleaved" in plan
    ferocal.quick("measure")
    # r61+opengl twice, r61+vulkan twice, r64+vulkan twice, and back to r61+opengl twice.
    assert steps(ferocal) == [
        "switch r61", "renew r61", "renew r61",
        "leave r61", "switch r64", "renew r64",
        "leave r64", "switch r61", "renew r61",
    ]  # fmt: skip
    (effect, _) = ferocal.json("compare")["effects"]
    assert effect["verdict"] == "inconclusive"
    assert (effect["method"], effect["visits"], effect["base_visits"]) == ("between visits", 2, 4)
    assert "the baseline moved by" in json.dumps(effect["caveats"])


def test_a_step_is_tried_again_and_a_failing_one_ends_with_its_output(bench_study: Study) -> None:
    flaky = (
        'switch = {{ command = "echo try >> steps; echo no link; test $(wc -l < steps) -ge {}",'
        " shell = true, retries = 2 }}"
    )
    ferocal = bench_study(head="rounds = 1", r61=flaky.format(3), configuration=ONE_FACTOR)
    ferocal.quick("measure")
    assert steps(ferocal) == ["try"] * 3
    states = query(ferocal, "SELECT state FROM step ORDER BY id")
    assert states == [("failed",), ("failed",), ("done",), ("done",)]  # the last one leaves r61
    ferocal = bench_study(head="rounds = 3", r61=flaky.format(99), configuration=ONE_FACTOR)
    ferocal.quick("measure", "--level", "driver=r64", "--rounds", "3")
    error = ferocal.quick("measure", "--rounds", "3", status=1)
    assert "switch of driver=r61 failed 3 times" in error
    assert "no link" in error
    assert len(valid_runs(ferocal)) == 4


def test_holds_end_with_status_4_and_the_same_command_goes_on(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 2\nseed = 5", r61=HELD.format("r61"), r64=HELD.format("r64"),
        configuration=ONE_FACTOR,
    )  # fmt: skip
    set_driver(ferocal, "r61")
    for taken in (1, 3, 4):
        done = subprocess.run(
            [PROGRAM, "measure"], cwd=ferocal.directory, env=surroundings(),
            stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert len(valid_runs(ferocal)) == taken
        if taken < 4:
            assert done.returncode == 4
            wanted = "r64" if taken == 1 else "r61"
            assert f"Flash {wanted}, then reboot." in done.stderr
            assert "run `ferocal measure` again" in done.stderr
            set_driver(ferocal, wanted)
    assert done.returncode == 0
    holds = query(ferocal, "SELECT level, state FROM step ORDER BY id")
    assert holds == [("r64", "waiting"), ("r61", "waiting")]


def test_an_operator_at_a_terminal_continues_skips_and_stops(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 2\nseed = 5", r61=HELD.format("r61"), r64=HELD.format("r64"),
        configuration=ONE_FACTOR,
    )  # fmt: skip
    set_driver(ferocal, "r61")
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(ferocal.directory), env=surroundings(), encoding="utf-8",
        dimensions=(30, 120), timeout=PATIENCE,
    )  # fmt: skip
    terminal.expect("Flash r64, then reboot.")
    terminal.expect("when it is done")
    terminal.sendline("")  # claims to have done it
    terminal.expect('is not active: expected equals "r64", seen "r61"')
    set_driver(ferocal, "r64")
    terminal.expect("when it is done")
    terminal.sendline("continue")
    terminal.expect("Flash r61")
    terminal.expect("when it is done")
    terminal.sendline("skip")
    terminal.expect("next: | left; continue")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 0
    assert [configuration for _, configuration, _, _ in valid_runs(ferocal)] == [
        "r61+opengl", "r64+opengl", "r64+opengl",
    ]  # fmt: skip
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(ferocal.directory), env=surroundings(), encoding="utf-8",
        timeout=PATIENCE,
    )  # fmt: skip
    terminal.expect("when it is done")
    terminal.sendline("stop")
    terminal.expect("stopped by the operator")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 4


def test_here_takes_the_visit_of_what_is_active_and_copies_merge(
    bench_study: Study, tmp_path: Path
) -> None:
    ferocal = bench_study(
        head="rounds = 2", r61=HELD.format("r61"), r64=HELD.format("r64"),
        configuration=ONE_FACTOR,
    )  # fmt: skip
    other = Ferocal(tmp_path.parent / f"{tmp_path.name}-other")
    shutil.copytree(ferocal.directory, other.directory)
    set_driver(ferocal, "r61")
    set_driver(other, "r64")
    for side, name in ((ferocal, "r61+opengl"), (other, "r64+opengl")):
        for left in (3, 2):  # of the whole plan, of which one visit was asked for
            done = side.quick("measure", "--here")
            assert re.search(rf"took 1 run in .*; {left} runs left", done)
        assert {configuration for _, configuration, _, _ in valid_runs(side)} == {name}
    set_driver(other, "r66")
    assert "no configuration is active here" in other.quick("measure", "--here", status=1)
    assert "imported 2 runs" in ferocal.quick("merge", str(other.directory))
    assert "imported 0 runs" in ferocal.quick("merge", str(other.directory))
    assert "everything is measured: 4 runs" in ferocal.quick("measure")
    (effect,) = ferocal.json("compare")["effects"]
    # All visits to one before all to the other are no rounds, whatever their numbers.
    assert (effect["rounds"], effect["visits"], effect["runs"]) == (0, 2, 4)
    assert "not-interleaved" in {caveat["code"] for caveat in effect["caveats"]}
    before = (ferocal.directory / "ledger.sqlite").read_bytes()
    text = (other.directory / "study.toml").read_text()
    other.write(text.replace("echo score 1", "echo score 2"))
    error = ferocal.refusal("merge", str(other.directory))
    assert "another study: workload differ" in error
    assert (ferocal.directory / "ledger.sqlite").read_bytes() == before


def test_a_changed_hardware_fact_stops_the_study_and_is_named(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 2",
        bench='[bench.node.probe]\nmemory-fitted = { command = "cat memory", kind = "hardware" }',
        configuration=ONE_FACTOR,
    )
    (ferocal.directory / "memory").write_text("32 GiB")
    ferocal.quick("measure", "--rounds", "1")
    (ferocal.directory / "memory").write_text("16 GiB")
    error = ferocal.quick("measure", status=1)
    assert 'memory-fitted is "16 GiB", it was "32 GiB"' in error
    assert len(valid_runs(ferocal)) == 2
    (ferocal.directory / "memory").write_text("32 GiB")
    ferocal.quick("measure")


def test_facts_read_in_two_ways_are_compared_by_what_both_can_tell() -> None:
    from ferocal.bench.facts import Fact, find_changes

    hardware = frozenset({"hardware"})
    before = Fact("processor", "Oxbow 7 at 3 GHz", "hardware", "linux files")
    same, renamed = (
        Fact("processor", value, "hardware", "win32 registry")
        for value in ("Oxbow 7 at 3 GHz", "Oxbow 7")
    )
    declared = Fact("processor", "Oxbow 7", "declared", "study file")
    assert find_changes([before], [same], hardware) == []
    (change,) = find_changes([before], [renamed], hardware)
    assert not change.comparable
    assert find_changes([before], [renamed, declared], hardware) == []
    amounts = [Fact("memory", value, "hardware", "portable") for value in ("23.5 GiB", "23.4 GiB")]
    assert find_changes(amounts[:1], amounts[1:], hardware) == []
    less = Fact("memory", "16.0 GiB", "hardware", "portable")
    assert len(find_changes(amounts[:1], [less], hardware)) == 1
    other = Fact("processor", "Tarn 8", "hardware", "linux files")
    (change,) = find_changes([before], [other, declared], hardware)
    assert change.comparable


@pytest.mark.parametrize("explained", [False, True])
def test_what_else_differs_becomes_a_caveat(bench_study: Study, explained: bool) -> None:
    ferocal = bench_study(
        head="rounds = 2",
        bench="[bench.node.probe]\n"
        'codec = { command = "sh -c \'echo codec $CODEC\'", kind = "software" }\n'
        'cores-given = { command = "sh -c \'echo ${CORES:-8}\'", kind = "resource" }',
        r64='environment = { CODEC = "9" }\n'
        + ("" if explained else 'facts = { adapter = "Tarn" }\n')
        + ("" if explained else "switch = \"sh -c 'echo other > scene'\""),
        r61='environment = { CODEC = "8" }\n'
        + ("" if explained else 'facts = { adapter = "Oxbow" }\n')
        + ("" if explained else "switch = \"sh -c 'echo one > scene'\"")
        + ('\n[factor.driver]\nexplains = ["codec"]' if explained else ""),
        configuration=ONE_FACTOR,
        workload='files = ["scene"]\nversion = "sh -c \'echo player 3.$CODEC\'"',
    )
    if explained:
        text = (ferocal.directory / "study.toml").read_text()
        ferocal.write(text.replace("3.$CODEC", "3"))
        (ferocal.directory / "scene").write_text("one")
    ferocal.quick("measure")
    (effect,) = ferocal.json("compare")["effects"]
    found = {(caveat["code"], caveat["seen"].split(":")[0]) for caveat in effect["caveats"]}
    unexpected = {
        ("undeclared-difference", "software differs"),
        ("resources-differ", "a resource differs"),
        ("workload-differs", "the workload differs"),
    }
    assert found & unexpected == (set() if explained else unexpected)


@pytest.mark.skipif(platform.system() != "Linux", reason="processes are observed through /proc")
def test_a_running_workload_proves_or_disproves_what_is_active(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 1",
        r61='verify = [{ running = "program", matches = "/sleep$" },'
        f' {{ running = "architecture", equals = "{platform.machine()}" }},'
        ' { running = "libraries", contains = "libc.so" }]',
        r64='verify = [{ running = "libraries", contains = "libpreloaded" }]',
        configuration=ONE_FACTOR,
        command="sleep 1; echo score 1",
    )
    error = ferocal.quick("measure", "--if-not-active", "go-on", status=1)
    assert "driver=r64 is not active: expected libraries of the running workload" in error
    assert {configuration for _, configuration, _, _ in valid_runs(ferocal)} <= {"r61+opengl"}
    outcomes = ferocal.json("runs")["run_list"]
    assert {(run["configuration"], run["outcome"]) for run in outcomes} == {
        ("r61+opengl", "ok"), ("r64+opengl", "not active"),
    }  # fmt: skip


def test_checks_after_a_visit_set_it_aside(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 1",
        r61='verify = [{ command = "cat driver", equals = "r61", when = "after" }]',
        configuration=ONE_FACTOR,
        command="echo fallen back > driver; echo score 1",
    )
    done = ferocal("measure", "--if-not-active", "go-on", status=1)
    assert 'expected equals "r61", seen "fallen back"' in done.stderr
    assert "took 1 run in " in done.stdout and "2 visits set aside, not active" in done.stdout
    # Results are not looked at before the plan is complete.
    assert "1 run left" in done.stdout and "better" not in done.stdout
    assert "r61+opengl" not in {run["configuration"] for run in ferocal.json("table")["cells"]}


@contextlib.contextmanager
def open_affinity(processors: int) -> Iterator[int]:
    """Whatever starts within may use as many processors as can be had; yields their number."""
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, range(processors))
    try:
        yield len(os.sched_getaffinity(0))
    finally:
        os.sched_setaffinity(0, before)


def test_a_busy_machine_is_waited_for_then_told_and_named(bench_study: Study) -> None:
    ferocal = bench_study(
        head="rounds = 1",
        bench='[bench.node.settle]\nidle-for = "1 s"\ntimeout = "2 s"\n'
        '[bench.node.probe]\nambient = { command = "echo 21.5", kind = "condition" }',
        configuration=ONE_FACTOR,
        command="sleep 0.5; echo score 1",
    )
    processors = os.cpu_count() or 1
    with open_affinity(processors) as usable:
        busy = [subprocess.Popen("exec yes > /dev/null", shell=True) for _ in range(usable)]
    if usable / processors < 0.3:
        pytest.skip("too few of the processors can be made busy from here")
    try:
        output = ferocal.quick("measure")
    finally:
        for process in busy:
            process.kill()
            process.wait()
    assert "not settled within 2 s" in output
    conditions = [run["conditions"] for run in ferocal.json("runs")["run_list"]]
    assert all("yes" in run["busiest_others"] for run in conditions)
    least = 0.5 * usable / processors
    assert all(run["busy_share_of_others"] > least for run in conditions)
    assert all(run["before"]["ambient"] == run["after"]["ambient"] == 21.5 for run in conditions)
    assert all(run["before"]["load"] >= 0 for run in conditions)


def test_runs_are_excluded_restored_and_noted(small_study: Study) -> None:
    ferocal = small_study(rounds=3)
    ferocal.quick("measure")
    ledger = ferocal.directory / "ledger.sqlite"
    runs = ferocal.json("runs", "--configuration", "on")["run_list"]
    first = runs[0]["id"]
    ferocal.quick("exclude", first[:6], "--reason", "projector was off")
    assert ferocal.json("compare")["effects"][0]["rounds"] == 2
    for command in ("table", "compare"):
        assert "1 run is excluded: ferocal runs --excluded" in ferocal(command).stdout
    seen = [c["seen"] for e in ferocal.json("compare")["effects"] for c in e["caveats"]]
    assert "1 excluded with on, none with off" in seen
    (listed,) = ferocal.json("runs", "--excluded")["run_list"]
    assert (listed["id"], listed["excluded_because"]) == (first, "projector was off")
    before = ledger.read_bytes()
    assert "excluded already" in ferocal.refusal("exclude", first, "--reason", "x")
    assert "is not the id of a run" in ferocal.refusal("exclude", first, "zzz", "--reason", "x")
    assert 'did you mean "flight"' in ferocal.refusal("note", "x", "--workload", "fligt")
    assert ledger.read_bytes() == before
    ferocal.quick("restore", first)
    (effect,) = ferocal.json("compare")["effects"]
    assert effect["rounds"] == 3
    assert "one-sided-losses" not in {caveat["code"] for caveat in effect["caveats"]}
    ferocal("note", "flicker at the zenith", "--configuration", "on", "--run", first,
            "--source", "screenshot", "--date", "2026-05-03")  # fmt: skip
    (note,) = ferocal.json("note")["notes"]
    assert (note["configuration"], note["workload"], note["run"]) == ("on", None, first)
    assert (note["source"], note["date"][:10]) == ("screenshot", "2026-05-03")
    assert f"run {first}: flicker at the zenith (2026-05-03, screenshot)" in ferocal.quick("note")
    ferocal.quick("report")
    assert "flicker at the zenith" in (ferocal.directory / "report.html").read_text()


def test_the_plan_tells_rounds_needed_and_the_control_arm_is_measured(small_study: Study) -> None:
    ferocal = small_study(rounds="3\ncontrol = true")
    seen = ferocal.json("plan", "--detect", "2%", "--sd", "3%")
    (outlook,) = seen["outlook"]
    solve = TTestPower().solve_power
    # The control arm is a family of its own, so that there is one comparison.
    exact = solve(effect_size=0.0198 / 0.03, alpha=0.05, power=0.8)
    assert outlook["rounds_80"] == pytest.approx(exact, abs=1)
    assert outlook["rounds_90"] > outlook["rounds_80"]
    assert any("only 3 rounds, so intervals" in text for text in seen["shortcomings"])
    assert any(text.endswith("for 0 of 1 secondary metric") for text in seen["answers"])
    assert any("no check verifies" in text for text in seen["shortcomings"])
    assert (seen["cost"]["visits"], seen["cost"]["seconds"]) == (9, None)
    ferocal.quick("measure")
    effects = {e["configuration"]: e["change"] for e in ferocal.json("compare")["effects"]}
    assert effects["control"] == pytest.approx(0, abs=0.02)
    after = ferocal.json("plan")
    assert after["cost"]["seconds"] > 0
    assert after["spread_from"] == "this study so far"
    assert "80 %, 90 %: rounds needed" in ferocal.quick("plan")
    assert "must be a percentage" in ferocal.refusal("plan", "--detect", "2 s")


def test_deciding_stops_at_the_first_look_that_is_enough(small_study: Study) -> None:
    ferocal = small_study(rounds=3)
    output = ferocal.quick("measure", "--decide", "--rounds", "10")
    assert "look after round 5: everything is decided" in output
    result = ferocal.json("compare")
    assert result["confidence"] == 0.9772
    assert (result["effects"][0]["verdict"], result["effects"][0]["rounds"]) == ("better", 5)
    assert "97.72 % intervals" in ferocal.quick("compare")
    assert "10 or 20" in ferocal.refusal("measure", "--decide", "--rounds", "12")
    ferocal.quick("measure", "--rounds", "11")
    codes = {caveat["code"] for caveat in ferocal.json("compare")["effects"][0]["caveats"]}
    # What the machine was like meanwhile may differ, too, by chance or in fact.
    assert {"extended", "unproven"} <= codes


def test_inspect_measures_the_overhead(ferocal: Ferocal) -> None:
    output = ferocal.quick("inspect", "--overhead")
    (wall,) = (line.split()[2] for line in output.splitlines() if "wall time" in line)
    assert 0 < float(wall) < 5000
