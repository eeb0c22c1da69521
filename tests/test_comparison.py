"""From a measured study to its comparison: floors, losses, single runs, the Python face."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pandas as pd
import pytest

import ferocal as face
from conftest import Ferocal
from ferocal.errors import UsageError

Study = Callable[..., Ferocal]


def codes(ferocal: Ferocal) -> set[str]:
    effects = face.open(ferocal.directory).effects()
    return {caveat.code for effect in effects for caveat in effect.caveats}


def test_a_single_visit_is_decided_by_a_noise_floor_of_an_earlier_study(
    small_study: Study, tmp_path: Path
) -> None:
    small = small_study(rounds=6, runs=2, gain=140, command="echo score $GAIN.$(($$ % 7))")
    text = (small.directory / "study.toml").read_text()
    earlier, wrong = (Ferocal(tmp_path / name) for name in ("earlier", "wrong"))
    for other in (earlier, wrong):
        other.directory.mkdir()
    earlier.write(text.replace("rounds = 6", "rounds = 6\ncontrol = true"))
    earlier.quick("measure")
    wrong.write(text + '[bench.lobby]\nfacts = { projector = "none" }\n')
    small.write(text.replace("rounds = 6", 'schedule = "once"'))
    assert "interval only if a noise floor is known" in " ".join(small.quick("plan").split())
    small.quick("measure")
    (effect,) = small.json("compare")["effects"]
    assert (effect["verdict"], effect["low"], effect["method"]) == ("seen once", None, "none")
    assert {"one-visit", "not-interleaved"} <= codes(small)
    before = (small.directory / "ledger.sqlite").read_bytes()
    assert 'measured on "lobby"' in small.refusal("noise-floor", "wrong")
    assert "with at least three visits to one configuration" in earlier.refusal("noise-floor", "..")
    assert (small.directory / "ledger.sqlite").read_bytes() == before
    assert "imported 1 noise floor" in small.quick("noise-floor", "earlier")
    (floor,) = small.json("noise-floor")["noise_floors"]
    assert (floor["degrees"], floor["runs_per_visit"], floor["scale"]) == (5, 2.0, "ratio")
    # A plan of rounds, too, knows from the floor what two visits differ by.
    wrong.write(text)
    wrong.quick("noise-floor", "../earlier")
    plan = wrong.json("plan", "--detect", "10%")
    assert plan["spread_from"] == "noise floors"
    sd = plan["outlook"][0]["components"]["round_sd"]
    assert sd == pytest.approx((2 * floor["variance"]) ** 0.5)
    (effect,) = small.json("compare")["effects"]
    assert (effect["method"], effect["verdict"]) == ("noise floor", "better")
    assert effect["degrees"] == 5 and effect["noise_floor"]["age"] < 1
    assert "1 visit each, noise floor" in small.quick("compare")
    assert "stale-noise-floor" not in codes(small)
    small.edit("UPDATE noise_floor SET measured_at = '2020-01-01T00:00:00+00:00'")
    assert "stale-noise-floor" in codes(small)


CONTROLLED = """
[study]
question = "Does the bench agree with itself?"
margin = "2 %"
rounds = 6
runs = 1
control = true
[factor.mode.level.off]
[factor.mode.level.on]
[workload.flight]
shell = true
command = '''case $FEROCAL_CONFIGURATION in {odd}) s=12;; *) s=10;; esac
echo $s.$((FEROCAL_VISIT * 7 % 5)) frames {frames}'''
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = '^([0-9.]+)' }}
samples = {{ pattern = 'frames ([0-9]+)' }}
{metric}
"""


def test_a_control_arm_that_is_not_nil_is_told_first_and_breaks_the_gate(ferocal: Ferocal) -> None:
    ferocal.write(CONTROLLED.format(odd="control", frames=90_000, metric=""))
    ferocal.quick("measure")
    text = ferocal.quick("compare")
    assert "The bench does not agree with itself: the control arm (off again)" in text
    assert text.index("does not agree") < text.index("flight with on")
    control, on = sorted(ferocal.json("compare")["effects"], key=lambda e: not e["control"])
    assert (control["configuration"], control["verdict"]) == ("control", "better")
    assert on["control"] is False and "control-differs" in {c["code"] for c in on["caveats"]}
    # Whatever is looked at, the alarm is the same.
    assert "does not agree with itself" in ferocal.quick("compare", "--configuration", "on")
    for looked_at in ((), ("--configuration", "on"), ("--metric", "score")):
        ferocal.quick("compare", "--gate", "worse", *looked_at, status=3)
    assert "gate worse: the control arm" in ferocal.quick("compare", "--gate", "worse", status=3)
    ferocal.quick("report")
    assert "does not agree with itself" in (ferocal.directory / "report.html").read_text()


def test_what_the_study_file_declares_of_a_metric_is_held_against_its_readings(
    ferocal: Ferocal,
) -> None:
    metric = 'plausible = [5, 11]\nresolution = 4\nstatistic = "mean"'
    study = CONTROLLED.format(odd="on", frames=900, metric=metric)
    ferocal.write(study.replace('"points"', '"fps"'))
    ferocal.quick("measure")
    assert {"implausible", "coarse"} <= codes(ferocal)
    assert "short-capture" not in codes(ferocal)  # of runs, not of frames
    # The rest of the rounds is read by someone who takes the best of several.
    text = (ferocal.directory / "study.toml").read_text()
    ferocal.write(text.replace('"mean"', '"best"').replace("rounds = 6", "rounds = 8"))
    ferocal.quick("measure", "--configuration", "on")
    assert "best-of" in codes(ferocal)
    assert "extended" not in codes(ferocal)  # what pairs has six rounds, as planned
    ferocal.quick("measure")
    assert "extended" in codes(ferocal)
    mistakes = text.replace("[5, 11]", "[11, 5]").replace("resolution = 4", 'margin = "3 W"')
    ferocal.write(mistakes)
    error = ferocal.refusal("inspect")
    assert "plausible must be [lowest, highest]" in error
    ferocal.write(mistakes.replace("[11, 5]", "[5, 11]"))
    assert 'margin must be in "%" or "fps", not "W"' in ferocal.refusal("inspect")


def test_lost_runs_and_other_units_are_told_and_stand_among_the_single_runs(
    small_study: Study,
) -> None:
    command = (
        'if test "$GAIN" = 120 -a $FEROCAL_ROUND = 3; then exit 1; fi; '
        "echo score $GAIN.$((FEROCAL_VISIT % 3))"
    )
    ferocal = small_study(rounds=5, runs=2, command=command)
    ferocal.quick("measure", status=1)
    losses = [c for e in ferocal.json("compare")["effects"] for c in e["caveats"]]
    assert "2 failed" in next(c["seen"] for c in losses if c["code"] == "one-sided-losses")
    run = ferocal.json("runs", "--round", "2", "--configuration", "off")["run_list"][0]
    ferocal.quick("exclude", run["id"], "--reason", "door was open")
    text = ferocal("runs", "--metric", "score", COLUMNS="120").stdout
    lines = text.splitlines()
    assert sum("●" in line for line in lines) - 1 == 17  # and the line that explains the marks
    assert "excluded: door" in text and "failed: ended" in text
    assert max(map(len, lines)) <= 120
    narrow = ferocal("runs", "--metric", "score", COLUMNS="80").stdout
    assert max(map(len, narrow.splitlines())) <= 80 and "●····" not in narrow
    runs = ferocal.json("runs")["run_list"]
    assert [r["started_at"] for r in runs] == sorted(r["started_at"] for r in runs)
    assert sum(not r["values"] for r in runs) == 2
    assert [r["excluded_because"] for r in runs].count("door was open") == 1
    only = ferocal.json("runs", "--configuration", "on")["run_list"]
    assert {r["configuration"] for r in only} == {"on"}
    for wrong in (["--configuration", "onn"], ["--workload", "fligt"], ["--metric", "scoer"],
                  ["--outcome", "fialed"], ["--round", "9"], ["--bench", "lobby"]):  # fmt: skip
        assert re.search("did you mean|known: |rounds 1 to 5", ferocal.refusal("runs", *wrong))
    assert 'did you mean "flight"' in ferocal.refusal("table", "--workload", "fligt")
    study = (ferocal.directory / "study.toml").read_text()
    ferocal.write(study.replace('"points"', '"marks"'))
    assert " points" in ferocal.quick("runs")
    assert ferocal.json("compare")["effects"] == []


def test_the_python_face_gives_what_the_commands_give(
    demo: tuple[Ferocal, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    directory = demo[0].directory
    study = face.open(directory)
    effects = study.effects(workloads=("show-export",))
    message: list[dict[str, Any]] = demo[0].json("compare", "--workload", "show-export")["effects"]
    assert [(e.configuration, e.change, str(e.verdict)) for e in effects] == [
        (e["configuration"], e["change"], e["verdict"]) for e in message
    ]
    frame = study.readings()
    assert set(frame.columns) >= {"round", "configuration", "factor:driver", "metric", "value"}
    assert isinstance(frame["started_at"].dtype, pd.DatetimeTZDtype)
    assert frame["started_at"].is_monotonic_increasing
    valid = frame[(frame["outcome"] == "ok") & frame["excluded"].isna()]
    counts = valid.groupby(["workload", "metric", "configuration"]).size()
    assert counts.eq(15).all() and len(counts) == 4 * (3 + 7 + 14) + 2 * 3
    (rows,) = study.table().cells.values()
    cells = [cell for row in rows for cell in row if cell is not None]
    assert [(c.centre, c.runs) for c in cells] == [
        (c["centre"], c["runs"]) for c in demo[0].json("table")["cells"]
    ]
    with pytest.raises(UsageError, match='did you mean "r64\\+vulkan"'):
        study.effects(against="r64+vulcan")
    monkeypatch.chdir(directory)
    assert face.open().study.baseline == "r61+opengl"
