"""Every night a build: the pipeline of the manual, time limits, and benches that are taken."""

from __future__ import annotations

import os
import re
import subprocess
from pathlib import Path

import pytest

from conftest import PROGRAM, Ferocal, surroundings
from test_measure import wait_until

PAGE = (Path(__file__).parent.parent / "docs" / "nightly.md").read_text(encoding="utf-8")
# From n08 on exports take longer by 6 %.
EXPORT = """
n=$(cat count 2>/dev/null || echo 0); echo $((n + 1)) > count
worse=0; case $BUILD in n08|n09|n1*) worse=12000;; esac
echo took $((200000 + worse + n * 7919 % 801 - 400))
"""


def block(kind: str) -> str:
    (found,) = re.findall(rf"```{kind}\n(.*?)```", PAGE, re.DOTALL)
    return str(found)


def test_the_pipeline_of_the_manual_notices_a_regression(ferocal: Ferocal) -> None:
    ferocal.write(block("toml"))
    (ferocal.directory / "export.sh").write_text(EXPORT)
    script = block("sh")
    assert len(script.strip().splitlines()) <= 6
    ferocal("measure", "--operator", "Ada")
    path = f"{Path(PROGRAM).parent}{os.pathsep}{os.environ['PATH']}"
    statuses = {}
    for night in range(1, 13):
        name = f"n{night:02d}"
        done = subprocess.run(
            ["sh", "-c", script], cwd=ferocal.directory, capture_output=True, encoding="utf-8",
            env={**surroundings(), "PATH": path, "NIGHT": name, "FEROCAL_OPERATOR": "Ada"},
            stdin=subprocess.DEVNULL, check=False,
        )  # fmt: skip
        statuses[name] = done.returncode
        summary = (ferocal.directory / "summary.md").read_text(encoding="utf-8")
        assert ("worse:" in summary) == (name == "n08"), done.stdout + done.stderr
    assert {name for name, status in statuses.items() if status} == {"n08"}
    assert statuses["n08"] == 3
    (step,) = ferocal.json("series", "build")["steps"]
    assert (step["last"], step["first_release"]) == ("n07", "n08")
    history = ferocal.json("history")
    assert {entry["operator"] for entry in history["history"]} == {"Ada"}
    # No build was measured again but as the one before the next.
    taken = [run["configuration"] for run in ferocal.json("runs")["run_list"]]
    assert {taken.count(f"n{n:02d}") for n in range(12)} == {12}


STUDY = """
[study]
question = "Which is faster?"
margin = "5 %"
rounds = 6
runs = 1
[factor.mode.level.on]
[factor.mode.level.off]
[workload.show]
command = "sh run.sh"
[workload.show.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9]+)" }
"""


def test_no_round_is_begun_that_would_end_too_late(ferocal: Ferocal) -> None:
    ferocal.write(STUDY)
    (ferocal.directory / "run.sh").write_text("sleep 0.2; echo score 1$(($$ % 10))")
    done = ferocal("measure", "--within", "0.3 s")
    assert (
        "the time is up" in done.stdout and "left; continue with `ferocal measure`" in done.stdout
    )
    rounds = {run["round"] for run in ferocal.json("runs")["run_list"]}
    assert rounds == {1}  # the first is begun in any case, and is whole
    assert "plan is complete" in ferocal("measure", "--within", "1 h").stdout
    assert "has no unit" in ferocal.refusal("measure", "--within", "30")
    builds = ferocal.refusal("measure", "--level", "mode=on", "--against", "previous")
    assert "no factor has one" in builds


def test_a_bench_that_is_taken_is_waited_for(
    ferocal: Ferocal, tmp_path_factory: pytest.TempPathFactory
) -> None:
    other = Ferocal(tmp_path_factory.mktemp("other"))
    for study, text in (
        (other, "touch begun; while [ ! -e go ]; do sleep 0.05; done; echo score 10"),
        (ferocal, "echo score 11"),
    ):
        study.write(STUDY.replace("rounds = 6", "rounds = 1"))
        (study.directory / "run.sh").write_text(text)
    first = subprocess.Popen(
        [PROGRAM, "measure"], cwd=other.directory, env=surroundings(), stdout=subprocess.DEVNULL
    )
    wait_until((other.directory / "begun").exists)
    refused = ferocal("measure", status=1).stderr
    assert "is already running on the bench" in refused and "wait for it with --wait" in refused
    log = ferocal.directory / "log"
    with log.open("wb") as sink:
        second = subprocess.Popen(
            [PROGRAM, "measure", "--wait"], cwd=ferocal.directory, env=surroundings(),
            stdout=sink, stderr=sink,
        )  # fmt: skip
        wait_until(lambda: "waiting: " in log.read_text())
        (other.directory / "go").touch()
        assert (first.wait(), second.wait()) == (0, 0)
    assert log.read_text().count("waiting: ") == 1
    assert len(ferocal.json("runs")["run_list"]) == 2
