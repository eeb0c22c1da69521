"""Several benches in one study, and criteria that are kept with what was measured."""

from __future__ import annotations

import json
import platform
import shutil
from pathlib import Path

import psutil
import pytest

from conftest import Ferocal
from ferocal.terms.numbers import NO_BREAK
from test_measure import query

STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "{margin}"
rounds = 5
runs = 1
[bench.node]
facts = {{ {node} }}
[bench.lobby]
facts = {{ {lobby} }}
[bench.lobby.settle]
pause = "10 ms"
[factor.mode.level.off]
environment = {{ GAIN = "100" }}
[factor.mode.level.on]
environment = {{ GAIN = "120" }}
[workload.flight]
shell = true
command = 'echo score $GAIN.$((FEROCAL_VISIT * 7 % 5))'
[workload.flight.metric.score]
unit = "{unit}"
better = "{better}"
source = {{ pattern = "score ([0-9.]+)" }}
{metric}
"""
MACHINE = f'architecture = "{platform.machine()}"'
DEFAULTS = {"margin": "5 %", "node": 'projector = "L40"', "lobby": 'projector = "L7"',
            "unit": "points", "better": "higher", "metric": ""}  # fmt: skip


def write(ferocal: Ferocal, **values: str) -> Ferocal:
    ferocal.write(STUDY.format(**{**DEFAULTS, **values}))
    return ferocal


def test_one_ledger_holds_the_benches_and_compare_shows_them_in_turn(ferocal: Ferocal) -> None:
    write(ferocal)
    error = ferocal.refusal("measure")
    assert "this machine may be node or lobby: say which with --bench" in error
    ferocal.quick("measure", "--bench", "node")
    # What was taken on one bench is not taken for granted on the other.
    assert "took 10 runs" in ferocal.quick("measure", "--bench", "lobby")
    visits = query(ferocal, "SELECT bench, count(*) FROM visit GROUP BY bench ORDER BY bench")
    assert visits == [("lobby", 10), ("node", 10)]
    effects = ferocal.json("compare")["effects"]
    assert [e["bench"] for e in effects] == ["node", "lobby"]
    assert all(e["rounds"] == 5 and e["verdict"] == "better" for e in effects)
    text = ferocal.quick("compare")
    assert text.index("bench node") < text.index("bench lobby")
    assert text.count("on  better: flight") == 2
    (only,) = ferocal.json("compare", "--bench", "lobby")["effects"]
    assert only == effects[1]
    assert "bench node" not in ferocal.quick("compare", "--bench", "lobby")
    gate = ferocal.quick("compare", "--gate", "not-equivalent", status=3)
    assert "gate not-equivalent: on is better on flight on bench lobby" in gate
    assert 'did you mean "lobby"' in ferocal.refusal("compare", "--bench", "loby")
    assert {c["bench"] for c in ferocal.json("table")["cells"]} == {"node", "lobby"}
    assert {r["bench"] for r in ferocal.json("runs", "--bench", "node")["run_list"]} == {"node"}
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text()
    assert page.count('class="strip better"') == 2 and "bench lobby" in page and "L40" in page
    assert "each bench, as seen on node" in " ".join(ferocal.quick("plan").split())
    ferocal("exclude", ferocal.json("runs")["run_list"][0]["id"], "--reason", "dark")
    rounds = {e["bench"]: e["rounds"] for e in ferocal.json("compare")["effects"]}
    assert sorted(rounds.values()) == [4, 5]


def test_a_bench_is_found_by_facts_that_ferocal_can_read(ferocal: Ferocal) -> None:
    write(ferocal, node=MACHINE, lobby='architecture = "z80"')
    assert "this machine is bench node" in ferocal.quick("measure")
    error = ferocal.refusal("measure", "--bench", "lobby")
    assert 'this machine is not the bench "lobby": architecture is' in error and '"z80"' in error
    write(ferocal, node='architecture = "6502"', lobby='architecture = "z80"')
    assert "none of the benches node and lobby" in ferocal.refusal("measure")
    # A bench that was measured is known by the hardware that was recorded there.
    write(ferocal, lobby='architecture = "z80"')
    assert "this machine is bench node" in ferocal.quick("measure")
    threads = psutil.cpu_count()
    assert any(f["fact"] == str(threads) for f in ferocal.json("inspect")["machine"])


def test_readings_from_elsewhere_are_of_a_bench(ferocal: Ferocal) -> None:
    write(ferocal)
    place = ("flight", "100", "101", "--configuration", "off")
    assert "name one with --bench" in ferocal.refusal("enter", *place)
    ferocal.quick("enter", *place, "--bench", "lobby")
    rows = ["bench,configuration,workload,value,round"]
    rows += [f"{b},{c},flight,{v},{r}" for r in (1, 2) for b, c, v in (
        ("node", "off", 100 + r), ("node", "on", 120), ("lobby", "on", 140))]  # fmt: skip
    (ferocal.directory / "rows.csv").write_text("\n".join(rows))
    ferocal.quick("load", "rows.csv")
    benches = [run["bench"] for run in ferocal.json("runs")["run_list"]]
    assert (benches.count("node"), benches.count("lobby")) == (4, 4)
    (ferocal.directory / "wrong.csv").write_text("\n".join(rows).replace("node", "nod"))
    assert 'bench: "nod" is not a bench' in ferocal.refusal("load", "wrong.csv")
    (ferocal.directory / "none.csv").write_text("configuration,workload,value\non,flight,3\n")
    assert "name one with --bench" in ferocal.refusal("load", "none.csv")
    ferocal.quick("load", "none.csv", "--bench", "node")
    # A study that is begun from a file has the benches of the file.
    ferocal.quick("new", "begun", "--from", "rows.csv")
    begun = Ferocal(ferocal.directory / "begun")
    assert [e["bench"] for e in begun.json("compare")["effects"]] == ["node"]
    assert {c["bench"] for c in begun.json("table")["cells"]} == {"node", "lobby"}
    ferocal.quick("export", "all.csv")
    assert "node" in (ferocal.directory / "all.csv").read_text()


def test_looks_and_plans_are_those_of_each_bench(ferocal: Ferocal) -> None:
    """A bench that has not reached a look is not judged at it by the rounds of another."""
    write(ferocal, metric='role = "primary"')
    ferocal.quick("measure", "--bench", "node", "--decide", "--rounds", "10")
    ferocal.quick("measure", "--bench", "lobby", "--rounds", "4")
    assert query(ferocal, "SELECT bench, round FROM look") == [("node", 5)]
    node, lobby = ferocal.json("compare")["effects"]
    assert (node["verdict"], node["rounds"]) == ("better", 5)
    assert (lobby["verdict"], lobby["p_adjusted"], lobby["rounds"]) == ("inconclusive", None, 4)
    assert "look after round 5: everything is decided" in ferocal.quick(
        "measure", "--bench", "lobby", "--decide", "--rounds", "10"
    )
    node, lobby = ferocal.json("compare")["effects"]
    assert lobby["verdict"] == "better" and "extended" not in codes(ferocal)


def test_ledgers_of_two_benches_merge_into_one_list_in_order_of_time(
    ferocal: Ferocal, tmp_path: Path
) -> None:
    write(ferocal)
    other = Ferocal(tmp_path / "other")
    other.directory.mkdir()
    write(other)
    for number in (1, 2):  # in turn, as on two machines of one study
        ferocal.quick("measure", "--bench", "node", "--rounds", str(number))
        other.quick("measure", "--bench", "lobby", "--rounds", str(number))
    assert "imported 4 runs of 4 visits" in ferocal.quick("merge", "other")
    runs = ferocal.json("runs")["run_list"]
    times = [run["started_at"] for run in runs]
    assert times == sorted(times) and len(runs) == 8
    assert [run["bench"] for run in runs] == ["node"] * 2 + ["lobby"] * 2 + ["node"] * 2 + [
        "lobby"
    ] * 2
    keys = query(ferocal, "SELECT substr(uid, 1, 10) FROM run ORDER BY id")
    assert [key for (key,) in keys] != [run["id"] for run in runs]
    text = ferocal("runs", COLUMNS="140").stdout
    assert "time, UTC" in text and "bench" in text and runs[0]["started_at"][11:19] in text
    assert {e["bench"]: e["rounds"] for e in ferocal.json("compare")["effects"]} == {
        "node": 2, "lobby": 2,
    }  # fmt: skip


def test_noise_floors_are_brought_to_the_bench_that_both_studies_name(
    ferocal: Ferocal, tmp_path: Path
) -> None:
    """One visit a side on two benches, of which an earlier study knows one."""
    earlier = Ferocal(tmp_path / "earlier")
    earlier.directory.mkdir()
    text = STUDY.format(**DEFAULTS)
    earlier.write(text.replace("runs = 1", "runs = 1\ncontrol = true"))
    earlier.quick("measure", "--bench", "lobby")
    ferocal.write(text.replace("rounds = 5", 'schedule = "once"'))
    for bench in ("node", "lobby"):
        ferocal.quick("measure", "--bench", bench)
    floors = ferocal.json("noise-floor", "earlier")["noise_floors"]
    assert [floor["bench"] for floor in floors] == ["lobby"]
    methods = {e["bench"]: e["method"] for e in ferocal.json("compare")["effects"]}
    assert methods == {"node": "none", "lobby": "noise floor"}


def test_traces_of_several_benches_are_drawn_apart(ferocal: Ferocal) -> None:
    text = STUDY.format(**{**DEFAULTS, "metric": ""})
    text = text.replace("echo score $GAIN.$((FEROCAL_VISIT * 7 % 5))", "seq $GAIN 180")
    metric = 'kind = "soak"\nunit = "fps"\nbetter = "higher"\nsource = { output = "lines" }\n'
    head, _, _ = text.partition("unit =")
    ferocal.write(head + metric)
    for bench in ("node", "lobby"):
        ferocal.quick("measure", "--bench", bench, "--rounds", "2")
    output = ferocal.quick("soak", "-o", "chart.svg")
    assert output.count("wrote chart-flight-score-") == 2
    charts = {path.name for path in ferocal.directory.glob("*.svg")}
    assert charts == {"chart-flight-score-node.svg", "chart-flight-score-lobby.svg"}
    (ferocal.directory / "chart-flight-score-lobby.svg").unlink()
    ferocal.quick("soak", "-o", "one.svg", "--bench", "lobby")
    assert (ferocal.directory / "one.svg").exists()
    ferocal.quick("export", "out.csv", "--traces", "t")
    copy = Ferocal(ferocal.directory / "copy")
    copy.directory.mkdir()
    shutil.copy(ferocal.directory / "study.toml", copy.directory)
    copy("load", *[str(path) for path in sorted((ferocal.directory / "t").iterdir())])
    benches = [run["bench"] for run in copy.json("runs")["run_list"]]
    assert (benches.count("node"), benches.count("lobby")) == (4, 4)


def test_a_bench_that_the_study_file_no_longer_names_is_left_out(ferocal: Ferocal) -> None:
    write(ferocal)
    ferocal.quick("measure", "--bench", "node")
    text = (ferocal.directory / "study.toml").read_text()
    ferocal.write(text.replace("bench.node", "bench.dome"))
    result = ferocal.json("compare")
    assert result["effects"] == [] and result["left_out"] == 10
    assert "10 readings left out" in ferocal.quick("table")


def changed(ferocal: Ferocal) -> list[str]:
    """What every reading command says of changed criteria, which has to be the same."""
    sentences: list[str] = ferocal.json("compare")["criteria_changed"]
    for command in ("table", "runs", "plan"):
        assert ferocal.json(command)["criteria_changed"] == sentences
    return sentences


def codes(ferocal: Ferocal) -> set[str]:
    return {c["code"] for e in ferocal.json("compare")["effects"] for c in e["caveats"]}


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"margin": "30 %"},
         "margin of flight score changed from 5 % to 30 % since measuring began"),
        ({"metric": 'margin = "3 points"'},
         "margin of flight score changed from 5 % to 3 points since measuring began"),
        ({"metric": 'role = "primary"'},
         "role of flight score changed from secondary to primary since measuring began"),
        ({"better": "lower"},
         "better direction of flight score changed from higher to lower since measuring began"),
    ],
)  # fmt: skip
def test_criteria_that_change_after_the_first_reading_are_told(
    ferocal: Ferocal, values: dict[str, str], message: str
) -> None:
    write(ferocal)
    ferocal.quick("measure", "--bench", "node", "--rounds", "3")
    assert changed(ferocal) == [] and "criteria-changed" not in codes(ferocal)
    write(ferocal, **values)
    assert changed(ferocal) == [message]
    assert "criteria-changed" in codes(ferocal)
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    assert message in page.replace(NO_BREAK, " ")
    status = 3 if "better" in values else 0
    gate = ferocal("compare", "--gate", "worse", "--bench", "node", status=status).stderr
    unmeasured = ferocal.quick("compare", "--gate", "worse", status=3)
    assert "gate worse: no metric of on can be compared on lobby" in unmeasured
    assert f"warning: {message}" in gate
    # Once something was measured so, the date of that is known.
    ferocal.quick("measure", "--bench", "node", "--rounds", "4")
    (date,) = query(ferocal, "SELECT substr(max(started_at), 1, 10) FROM session")[0]
    assert changed(ferocal) == [f"{message} (in use since {date})"]
    write(ferocal)
    assert changed(ferocal) == []


def test_a_changed_unit_is_told_beside_the_readings_that_are_left_out(ferocal: Ferocal) -> None:
    write(ferocal)
    ferocal.quick("measure", "--bench", "node", "--rounds", "2")
    write(ferocal, unit="marks")
    (message,) = changed(ferocal)
    assert message == "unit of flight score changed from points to marks since measuring began"
    for command in ("compare", "table", "runs", "plan", "export out.csv"):
        assert f"criteria changed: {message}" in " ".join(ferocal(*command.split()).stdout.split())
    assert ferocal.json("compare")["effects"] == []


def test_sessions_keep_what_was_asked(ferocal: Ferocal, tmp_path: Path) -> None:
    write(ferocal, metric='role = "primary"')
    ferocal.quick("measure", "--bench", "node", "--rounds", "7")
    ferocal.quick("enter", "flight", "3", "--configuration", "on", "--bench", "lobby")
    rows = query(ferocal, "SELECT bench, study_file, criteria FROM session ORDER BY id")
    assert [row[0] for row in rows] == ["node", "lobby"]
    assert {row[1] for row in rows} == {(ferocal.directory / "study.toml").read_text()}
    kept = json.loads(rows[0][2])
    assert kept["question"] == "Is the dome faster with it?" and kept["planned_rounds"] == 7
    assert kept["families"] == {"primary": [["flight", "score"]], "secondary": [], "detail": []}
    (metric,) = kept["metrics"]
    assert (metric["margin"], metric["unit"], metric["role"]) == ("5 %", "points", "primary")
    # They travel with a merge, so that a copy is held against the same criteria.
    copy = Ferocal(tmp_path / "copy")
    copy.directory.mkdir()
    shutil.copy(ferocal.directory / "study.toml", copy.directory)
    copy.quick("merge", "..")
    write(copy, metric='role = "primary"', margin="9 %")
    assert "changed from 5 % to 9 %" in changed(copy)[0]
