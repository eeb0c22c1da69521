"""What answers propose under "next": every command works, and does what it is proposed for."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ferocal
from test_measure import query

STUDY = """
[study]
question = "Which is faster?"
margin = "1 %"
schedule = "{schedule}"
{head}
[factor.fw]
order = "file"
[factor.fw.level.a]
environment = {{ GAIN = "100" }}
[factor.fw.level.b]
environment = {{ GAIN = "101" }}
[factor.fw.level.c]
environment = {{ GAIN = "109" }}
[factor.api.level.gl]
[factor.api.level.vk]
environment = {{ PLUS = "3" }}
[configuration]
{configuration}
[workload.flight]
{command}
[workload.flight.metric.score]
unit = "points"
better = "higher"
{source}
[claim.faster]
says = "It is faster."
metric = "flight score"
configuration = "{claimed}"
at-least = "2 %"
"""
# Scores differ by visit, and one configuration fails where it is broken.
COMMAND = """
shell = true
command = '''
[ "$GAIN$BROKEN" != 109yes ] || exit 1
echo score $((GAIN + PLUS)).$((FEROCAL_VISIT * 7 % 9))'''
"""
SOURCE = 'source = { pattern = "score ([0-9.]+)" }'
FULL = 'baseline = { fw = "a", api = "gl" }'
ONE = 'design = "one-factor"\nbaseline = { fw = "a", api = "gl" }'
LISTED = """
design = "listed"
baseline = "old"
impossible = [{ fw = "b", api = "vk", workload = "flight" }, { fw = "a", api = "vk" }]
named.old = { fw = "a", api = "gl" }
named.new = { fw = "c", api = "vk" }
named.mid = { fw = "b", api = "gl" }
"""
READING = ("compare", "rank", "series fw", "factors", "claims", "chart", "plan", "inspect", "runs")


def write(ferocal: Ferocal, **parts: str) -> None:
    defaults = {
        "schedule": "rounds", "head": "rounds = 5\nruns = 1", "configuration": ONE,
        "command": COMMAND, "source": SOURCE, "claimed": "c+gl",
    }  # fmt: skip
    ferocal.write(STUDY.format(**{**defaults, **parts}))


def complete(ferocal: Ferocal) -> None:
    write(ferocal)
    ferocal.quick("measure")


def begun(ferocal: Ferocal) -> None:
    write(ferocal)
    ferocal.quick("measure", "--rounds", "2")


def failing(ferocal: Ferocal) -> None:
    write(ferocal)
    ferocal.attempt("measure", "--rounds", "1")
    ferocal("measure", "--rounds", "2", status=1, BROKEN="yes")
    # What has failed in every round is missing.
    runs = ferocal.json("runs", "--all")["run_list"]
    bad = [run["id"] for run in runs if run["configuration"] == "c+gl"]
    ferocal.quick("exclude", *bad, "--reason", "the door was open")


def unpaired(ferocal: Ferocal) -> None:
    """Rounds of which most do not pair, and in which nothing can be told yet."""
    write(ferocal, command=COMMAND.replace(" + PLUS)).", " + PLUS + FEROCAL_VISIT * 7 % 40))."))
    ferocal.quick("measure", "--level", "fw=a", "--level", "api=gl")
    ferocal.quick("measure", "--rounds", "3")


def once(ferocal: Ferocal) -> None:
    write(ferocal, schedule="once", head="visits = 2\nruns = 1")
    ferocal.quick("measure")


def confounded(ferocal: Ferocal) -> None:
    write(ferocal, configuration=LISTED, claimed="new")
    ferocal.quick("measure")


def loaded(ferocal: Ferocal) -> None:
    write(ferocal, command="", source="")
    rows = [
        f"{name},flight,{value}"
        for name, value in (("a+gl", 100), ("b+gl", 101), ("c+gl", 109), ("a+vk", 103))
    ]
    (ferocal.directory / "r.csv").write_text("\n".join(["configuration,workload,value", *rows]))
    ferocal.quick("load", "r.csv")


def decided(ferocal: Ferocal) -> None:
    write(ferocal, head="rounds = 5\nruns = 1\nseed = 3")
    ferocal.attempt("measure", "--decide")


STATES: tuple[Callable[[Ferocal], None], ...] = (
    complete, begun, failing, unpaired, once, confounded, loaded, decided,
)  # fmt: skip


def commands_under_next(text: str) -> list[str]:
    """The commands of the section "next"."""
    return re.findall(r"ferocal(?: [\w.+=/-]+)+", text.partition("\nnext  ")[2])


@pytest.mark.parametrize("state", STATES, ids=lambda state: state.__name__)
def test_every_command_under_next_works(
    ferocal: Ferocal, state: Callable[[Ferocal], None], tmp_path: Path
) -> None:
    state(ferocal)
    proposed = {
        command: asked
        for asked in READING
        if (answer := ferocal.attempt(*asked.split()))[0] == 0
        for command in commands_under_next(answer[1])
    }
    assert proposed
    # What measures comes last: it changes what was proposed.
    for command in sorted(proposed, key=lambda c: ("measure" in c, c)):
        words = command.split()[1:]
        if {"DIR", "NAME", "FILE", "ID", "enter"} & set(words):
            continue
        measured = query(ferocal, "SELECT count(*) FROM run WHERE outcome = 'ok'")[0][0]
        done = ferocal.attempt(*words)
        assert done[0] == 0, (proposed[command], command, done)
        if words[0] == "measure":
            after = query(ferocal, "SELECT count(*) FROM run WHERE outcome = 'ok'")[0][0]
            assert after > measured, (proposed[command], command, done[1])
            break
    assert not any("measure" in c for c in proposed) or state not in (loaded,)
    if state is failing:
        assert "ferocal measure --retry" in proposed
    if state is unpaired:
        assert any("--rounds" in c for c in proposed)
        assert not any(re.search(r"--rounds [1-5]$", c) for c in proposed)
    if state is confounded:
        assert "b+vk" not in ferocal.quick("factors")
