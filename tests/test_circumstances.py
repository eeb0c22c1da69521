"""What is known of the circumstances: proof, busy benches, steps around runs, definitions."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pexpect
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.bench.conditions import Busy, disturbance
from ferocal.study.benches import Quiet
from test_measure import query, valid_runs

Study = Callable[..., Ferocal]


def caveats_of(ferocal: Ferocal) -> dict[str, str]:
    """What the caveats of the only effect have seen, by their codes."""
    return {caveat["code"]: caveat["seen"] for caveat in ferocal.effect()["caveats"]}


def replaced(ferocal: Ferocal, old: str, new: str) -> None:
    path = ferocal.directory / "study.toml"
    text = path.read_text(encoding="utf-8")
    assert old in text
    path.write_text(text.replace(old, new), encoding="utf-8")


def test_checks_on_running_workloads_are_kept_with_their_visit(small_study: Study) -> None:
    verify = 'verify = [{ running = "program", contains = "sleep" }]'
    ferocal = small_study(
        rounds=1, verify=verify, command="sleep 0.3; sleep 0.3 & wait; echo score $GAIN"
    )
    ferocal.quick("measure")
    (checks,) = query(ferocal, "SELECT checks FROM visit WHERE configuration = 'on'")
    (check,) = json.loads(checks[0])
    assert check["holds"] and "sleep" in check["seen"]
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text()
    assert "mode=on: program of the running workload" in page and "held 1 times" in page
    # Of the two levels, that which nothing checked is told.
    assert caveats_of(ferocal)["unproven"] == "no check verified that mode=off was active"
    replaced(ferocal, "shell = true\ncommand", 'instructions = "Fly."\n#')
    replaced(ferocal, "source =", "# source =")
    assert "is done by hand" in ferocal.refusal("inspect")


def test_a_hold_that_nothing_checks_is_confirmed_every_time(small_study: Study) -> None:
    ferocal = small_study(rounds=2, verify='hold = "Plug the second projector in."')

    def spawn() -> pexpect.spawn[str]:
        return pexpect.spawn(
            PROGRAM, ["measure", "--level", "mode=on"], cwd=str(ferocal.directory),
            env=surroundings(), encoding="utf-8", timeout=PATIENCE, dimensions=(30, 120),
        )  # fmt: skip

    for _ in range(2):  # asking twice without anybody there proves nothing
        assert "in a terminal, and confirm it" in ferocal.quick("measure", status=4)
    first = spawn()
    first.expect("round [12]: for on, mode=on is needed now")
    first.sendline("skip")
    # After a skip the next hold says of which round it is.
    first.expect("round [12]: for on, mode=on is needed now")
    first.sendline("stop")
    first.expect(pexpect.EOF)
    second = spawn()
    second.expect("is needed now")
    second.sendline("continue")
    second.expect(pexpect.EOF)
    second.close()
    # A hold that was continued is not taken for granted in another session.
    ferocal.quick("measure", "--rounds", "4", "--level", "mode=on", status=4)


def test_steps_around_a_run_are_outside_of_it_and_failures_are_told(small_study: Study) -> None:
    workload = """
retakes = 2
before = { command = "sh -c 'sleep 0.5; echo fresh > profile'" }
after = { command = "rm profile" }
"""
    command = "n=$(cat tries 2>/dev/null || echo 0); echo $((n + 1)) > tries; "
    command += "test $((n % 3)) -gt 0 || exit 9; cat profile; echo score $GAIN"
    ferocal = small_study(rounds=1, command=command, workload=workload)
    output = ferocal.quick("measure")
    assert output.count("exit status 9; it is taken again") == 1
    outcomes = query(ferocal, "SELECT outcome, wall FROM run ORDER BY id")
    assert [outcome for outcome, _ in outcomes] == ["failed", "ok", "ok"]
    # A machine may stall in one of them, but what is slept before is in none.
    assert min(wall for _, wall in outcomes) < 0.45
    assert not (ferocal.directory / "profile").exists()
    replaced(ferocal, "rm profile", "false")
    replaced(ferocal, "echo fresh", "exit 3; echo fresh")
    done = ferocal("measure", "--rounds", "2", status=1)
    assert "before it, `sh -c sleep 0.5; exit 3" in done.stderr and "exit status 3" in done.stderr
    assert "after it, `false` ended with exit status 1" in done.stdout


def test_a_run_is_disturbed_by_conditions_and_taken_again(small_study: Study) -> None:
    ferocal = small_study(rounds=2, command="sleep 0.3; echo score $GAIN")
    text = (ferocal.directory / "study.toml").read_text()
    # Nothing is as quiet as this, and no value plays a part in it.
    quiet = '[bench.node.quiet]\nothers-below = "0.001 %"\nretakes = 1\n'
    ferocal.write(text + quiet)
    disturb = ferocal.directory / "study.toml"
    busy = "for n in $(seq $(nproc)); do timeout 20 sh -c 'while :; do :; done' & done; "
    ferocal.write(disturb.read_text().replace("sleep 0.3", f"{busy}sleep 0.6"))
    try:
        done = ferocal("measure", status=1)
    except AssertionError:
        if {row[0] for row in query(ferocal, "SELECT outcome FROM run")} != {"ok"}:
            raise
        pytest.skip("the accounting of this machine shows nothing of others")
    assert "disturbed" in {row[0] for row in query(ferocal, "SELECT outcome FROM run")}
    assert "others took" in done.stdout and "it is taken again" in done.stdout
    kept = query(ferocal, "SELECT count(*) FROM reading")
    assert kept[0][0] > len(valid_runs(ferocal))
    assert "runs left" in done.stdout
    assert ferocal.json("runs", "--outcome", "disturbed")["run_list"]
    # What was quiet enough then does not count where nothing is asked of the machine.
    before = len(valid_runs(ferocal))
    ferocal.write(text)
    ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == before + 4, (before, done.stdout)


@pytest.mark.parametrize(
    ("others", "stolen", "disturbed"),
    [
        (0.05, 0.0, False),
        (0.11, 0.0, False),
        (0.15, 0.0, True),
        (0.0, 0.2, True),
        (None, None, False),
    ],
)
def test_only_what_surely_breaks_a_rule_disturbs(
    others: float | None, stolen: float | None, disturbed: bool
) -> None:
    quiet = Quiet.model_validate({"others-below": "10 %", "stolen-below": "10 %"})
    assert (disturbance(quiet, Busy(others, stolen, 0.02, ("pip",))) is not None) is disturbed


def test_shares_of_the_processors_are_recorded_for_short_runs_too(small_study: Study) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    for run in ferocal.json("runs")["run_list"]:
        conditions = run["conditions"]
        assert 0 <= conditions["busy_share_of_others"] <= 1
        assert conditions["busy_resolution"] > 0
        assert conditions["utilisation"] >= 0 and conditions["processors_allowed"] >= 1


def test_a_command_that_leaves_its_work_behind_is_no_timing(small_study: Study) -> None:
    ferocal = small_study(
        rounds=1,
        command="setsid sh -c 'touch there; sleep 33' & "
        "while ! test -e there; do sleep 0.02; done; rm there; echo score 5",
    )
    assert " running in a separate session" in ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == 2
    (run, _) = ferocal.json("runs")["run_list"]
    assert set(run["conditions"]["left_behind"]) <= {"sh", "sleep"}
    replaced(ferocal, 'unit = "points"', 'unit = "s"')
    replaced(ferocal, 'source = { pattern = "score ([0-9.]+)" }', 'source = "wall-time"')
    error = ferocal.quick("measure", "--rounds", "2", status=1)
    assert "wall-time is not that of the work; keep it in the foreground" in error


def test_hardware_that_a_factor_explains_is_a_resource(small_study: Study) -> None:
    probe = '[bench.node.probe.gpu]\nkind = "hardware"\ncommand = "sh -c \'echo $GAIN\'"\n'
    ferocal = small_study(rounds=1)
    ferocal.write((ferocal.directory / "study.toml").read_text() + probe)
    error = ferocal.quick("measure", status=1)
    assert '[factor.mode]\n  explains = ["gpu"]' in error
    (ferocal.directory / "ledger.sqlite").unlink()
    replaced(
        ferocal,
        "[factor.mode.level.off]",
        '[factor.mode]\nexplains = ["gpu"]\n[factor.mode.level.off]',
    )
    ferocal.quick("measure")
    # What is declared to come with the factor forbids nothing.
    assert "resources-differ" not in caveats_of(ferocal)
    assert ferocal.effect()["verdict"] != "not comparable"


def test_a_version_that_the_factor_changes_is_no_other_workload(small_study: Study) -> None:
    ferocal = small_study(rounds=1, workload="version = \"sh -c 'echo $GAIN'\"")
    ferocal.quick("measure")
    assert "version of flight" in caveats_of(ferocal)["workload-differs"]
    for name in ("version of flight", "flight"):
        text = (ferocal.directory / "study.toml").read_text()
        replaced(
            ferocal,
            "[factor.mode.level.off]",
            f'[factor.mode]\nexplains = ["{name}"]\n[factor.mode.level.off]',
        )
        assert "workload-differs" not in caveats_of(ferocal)
        ferocal.write(text)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('"120"', '"100"', "`environment` of mode=on has changed since"),
        ("echo score", "echo a score", "the command of flight has changed since"),
        ('"score (', '"score  *(', "the source of score (flight) has changed since"),
    ],
)
def test_a_definition_that_has_changed_is_told(
    small_study: Study, old: str, new: str, told: str
) -> None:
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    assert "definition-changed" not in caveats_of(ferocal)
    replaced(ferocal, old, new)
    assert told in caveats_of(ferocal)["definition-changed"]


def test_what_is_named_otherwise_has_not_been_measured(small_study: Study) -> None:
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    replaced(ferocal, "metric.score", "metric.points")
    assert "took 4 runs" in ferocal.quick("measure")
    assert "everything is measured" in ferocal.quick("measure")
    # A bench of another name is another bench, whose readings are not pooled.
    ferocal.write((ferocal.directory / "study.toml").read_text() + "[bench.lobby]\n")
    assert "took 4 runs" in ferocal.quick("measure")
    assert ferocal.effect()["rounds"] == 2 and ferocal.json("compare")["left_out"] == 8


def test_excluded_runs_can_be_replaced(small_study: Study) -> None:
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    run = ferocal.json("runs")["run_list"][0]["id"]
    ferocal.quick("exclude", run, "--reason", "the door was open")
    assert "everything is measured" in ferocal.quick("measure")
    assert "took 1 run" in ferocal.quick("measure", "--retry")
    assert ferocal.effect()["rounds"] == 2


def test_asking_for_fewer_rounds_first_is_no_extension(small_study: Study) -> None:
    ferocal = small_study(rounds=4)
    ferocal.quick("measure", "--rounds", "1")
    ferocal.quick("measure")
    assert "extended" not in caveats_of(ferocal)
    ferocal.quick("measure", "--rounds", "5")
    assert "extended" in caveats_of(ferocal)


def test_nothing_is_judged_before_a_look_is_recorded(small_study: Study) -> None:
    ferocal = small_study(
        rounds=3, command="test -e stop && exit 1; echo score $GAIN.$((FEROCAL_VISIT % 7))"
    )
    ferocal.quick("measure", "--decide", "--rounds", "10")
    assert ferocal.effect()["verdict"] == "better"
    # As it stood before the look: the same rounds, complete, and nobody has looked.
    ferocal.edit("DELETE FROM look")
    effect = ferocal.effect()
    assert (effect["verdict"], effect["open_until"], effect["p_adjusted"]) == (
        "inconclusive",
        5,
        None,
    )
    text = ferocal.quick("compare")
    assert "next look is after round 5" in " ".join(text.split())
    assert "measure --decide" in text
    ferocal.quick("compare", "--gate", "not-equivalent", status=3)


def test_merging_again_brings_states_forward_and_refuses_contradictions(
    small_study: Study, tmp_path: Path
) -> None:
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    copy = Ferocal(tmp_path.parent / f"{tmp_path.name}-copy")
    shutil.copytree(ferocal.directory, copy.directory)
    # The early copy: one run was in progress, and a visit had not been set aside yet.
    run, visit = 4, 1
    ferocal.edit(
        f"UPDATE run SET outcome = 'running', wall = NULL WHERE id = {run}",
        f"DELETE FROM reading WHERE run_id = {run}",
        f"DELETE FROM output WHERE run_id = {run}",
    )
    copy.edit(f"UPDATE visit SET state = 'not active' WHERE id = {visit}")
    ferocal.quick("merge", str(copy.directory))
    ferocal.quick("merge", str(copy.directory))
    rows = query(ferocal, "SELECT outcome, wall IS NULL FROM run WHERE id = 4")
    assert rows == [("ok", 0)]
    assert len(query(ferocal, "SELECT * FROM reading WHERE run_id = 4")) == 1
    assert query(ferocal, "SELECT state FROM visit WHERE id = 1") == [("not active",)]
    # Interrupted is only what Ferocal took it for; two ends of one run contradict each other.
    copy.edit("UPDATE run SET outcome = 'interrupted' WHERE id = 2")
    ferocal.quick("merge", str(copy.directory))
    copy.edit("UPDATE run SET outcome = 'failed' WHERE id = 3")
    before = (ferocal.directory / "ledger.sqlite").read_bytes()
    assert "contradict each other; nothing was merged" in ferocal.refusal(
        "merge", str(copy.directory)
    )
    assert (ferocal.directory / "ledger.sqlite").read_bytes() == before
