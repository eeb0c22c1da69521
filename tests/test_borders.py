"""What counts as evidence where readings come from people, files and single visits."""

from __future__ import annotations

import re
import subprocess
import time
from collections.abc import Callable

import numpy as np
import pexpect
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.analysis.caveats.kinds import SizedShift
from ferocal.documents.caveats.phrases import sized
from ferocal.terms.numbers import GROUP

HAND = """
[study]
question = "Which system is quicker?"
margin = "2 %"
{head}
[factor.system.level.halden-4]
[factor.system.level.halden-5]
[workload.kiosk-page.metric.score]
unit = "points"
better = "higher"
{metric}
"""
LEVELS = ("halden-4", "halden-5")


@pytest.fixture
def typed(ferocal: Ferocal) -> Ferocal:
    """A study of readings that are typed."""
    ferocal.write(HAND.format(head="", metric=""))
    return ferocal


def enter(ferocal: Ferocal, level: int, *values: str) -> None:
    ferocal.quick("enter", "kiosk-page", "--configuration", LEVELS[level], *values)


def codes_of(effect: dict[str, object]) -> set[str]:
    caveats = effect["caveats"]
    assert isinstance(caveats, list)
    return {caveat["code"] for caveat in caveats}


def test_a_named_visit_is_one_in_however_many_calls_and_files(typed: Ferocal) -> None:
    for value in ("1000.5", "1001.2", "999.8"):
        enter(typed, 0, value, "--visit", "monday")
        enter(typed, 1, str(float(value) * 0.97), "--visit", "monday")
    effect = typed.effect()
    assert (effect["visits"], effect["base_visits"], effect["runs"]) == (1, 1, 6)
    assert (effect["verdict"], effect["low"]) == ("seen once", None)
    for number in range(3):
        (typed.directory / f"{number}.csv").write_text(
            f"configuration,value,visit\nhalden-4,{1002 + number},monday\n"
        )
    typed.quick("load", "0.csv", "1.csv")
    typed.quick("load", "2.csv")
    assert typed.effect()["base_visits"] == 1
    runs = typed.json("runs", "--configuration", "halden-4")["run_list"]
    assert [run["number"] for run in runs] == [1, 2, 3, 4, 5, 6]
    # What is known of a visit later completes it; what contradicts it is refused.
    enter(typed, 0, "1000", "--visit", "monday", "--date", "2026-05-04", "--round", "2")
    for wrong in (["--round", "3"], ["--date", "2026-05-06"]):
        message = typed.refusal(
            "enter",
            "kiosk-page",
            "1000",
            "--configuration",
            "halden-4",
            "--visit",
            "monday",
            *wrong,
        )
        assert "one visit has one round and one date" in message
    rows = "configuration,value,visit,round\nhalden-4,1,friday,1\nhalden-4,2,friday,2\n"
    (typed.directory / "two.csv").write_text(rows)
    assert "line 3, visit: " in typed.refusal("load", "two.csv")
    assert len(typed.json("runs", "--configuration", "halden-4")["run_list"]) == 7


def test_a_file_that_has_grown_does_not_double_its_rows(typed: Ferocal) -> None:
    old = [f"{LEVELS[n % 2]},{1000 - 200 * (n % 2) + n / 10:g}" for n in range(14)]
    file = typed.directory / "scores.csv"
    file.write_text("\n".join(["configuration,value", *old]) + "\n")
    typed.quick("load", "scores.csv")
    before = typed.effect()
    file.write_text("\n".join(["configuration,value", *old, "halden-4,777", "halden-5,778"]) + "\n")
    ledger = (typed.directory / "ledger.sqlite").read_bytes()
    message = typed.refusal("load", "scores.csv")
    assert "14 rows are already in the ledger, 2 are new; nothing was recorded" in message
    assert (typed.directory / "ledger.sqlite").read_bytes() == ledger
    assert "skipped (already in the ledger): 14 rows" in typed.quick(
        "load", "scores.csv", "--only-new"
    )
    assert len(typed.json("runs")["run_list"]) == 16
    typed.quick("load", "scores.csv", "--only-new")
    assert len(typed.json("runs")["run_list"]) == 16
    assert typed.effect()["visits"] == before["visits"] + 1
    # A date that is stated now and was not before makes no other row of it.
    dated = "configuration,value,started_at\nhalden-4,777,2026-05-01\nhalden-4,779,2026-05-01\n"
    (typed.directory / "dated.csv").write_text(dated)
    assert "1 row is already in the ledger, 1 is new" in typed.refusal("load", "dated.csv")
    typed.quick("load", "scores.csv", "--again")
    assert len(typed.json("runs")["run_list"]) == 32


def test_resolution_is_the_least_error_of_every_method(typed: Ferocal) -> None:
    for number in (1, 2):
        for level, value in enumerate(("60", "59")):
            enter(typed, level, value, "--round", str(number))
    effect = typed.effect()
    assert effect["verdict"] == "inconclusive" and "no-spread" in codes_of(effect)
    assert effect["low"] < -0.05 and effect["high"] > 0
    for number in range(3, 21):
        for level, value in enumerate(("60", "59")):
            enter(typed, level, value, "--round", str(number))
    # However often it is read, each side may be off by half a step.
    effect = typed.effect()
    assert effect["high"] == pytest.approx(0, abs=2e-3) and effect["verdict"] == "inconclusive"


def test_a_stopwatch_shows_no_equivalence_below_its_error(ferocal: Ferocal) -> None:
    metric = 'read = "stopwatch"\nmargin = "0.06 s"'
    ferocal.write(
        HAND.format(head="", metric=metric)
        .replace('unit = "points"', 'unit = "s"')
        .replace('better = "higher"', 'better = "lower"')
    )
    for number in range(1, 8):
        for level in (0, 1):
            value = 20 + 0.01 * (number * (level + 1) % 3)
            enter(ferocal, level, f"{value:.2f}", "--round", str(number))
    effect = ferocal.effect()
    assert effect["verdict"] == "inconclusive"
    assert effect["high"] - effect["low"] >= 2 * 1.96 * 0.15 / np.sqrt(6)


def test_identical_scores_are_shown_as_such(typed: Ferocal) -> None:
    for level in (0, 1):
        enter(typed, level, *["1234.7"] * 5)
    effect = typed.effect()
    assert effect["change"] == 0 and effect["verdict"] == "equivalent"
    assert {cell["cv"] for cell in typed.json("table")["cells"]} == {0}
    text = typed.quick("compare") + typed.quick("table")
    assert "e-" not in text and "e−" not in text
    assert text.count("all equal") == 2


def test_one_common_round_does_not_discard_the_rest(typed: Ferocal) -> None:
    rng = np.random.default_rng(5)
    for level, first in ((0, 1), (1, 5)):
        for number in range(first, first + 5):
            value = 1000 * (1 + 0.1 * level) * np.exp(rng.normal(0, 0.005))
            enter(typed, level, f"{value:.2f}", "--round", str(number))
    effect = typed.effect()
    assert (effect["method"], effect["visits"], effect["base_visits"]) == ("between visits", 5, 5)
    assert effect["verdict"] == "better" and effect["low"] < 0.1 < effect["high"]
    # Two common rounds of five are not enough either.
    enter(typed, 1, "1101", "--round", "4")
    assert (typed.effect()["method"], typed.effect()["visits"]) == ("between visits", 6)
    # With three more common rounds these carry more, for they take out what a round shares.
    for number in range(1, 4):
        enter(typed, 1, f"{1100 + number}", "--round", str(number))
    assert (typed.effect()["method"], typed.effect()["rounds"]) == ("paired by round", 5)


def test_a_stated_noise_gives_single_readings_a_marked_interval(ferocal: Ferocal) -> None:
    ferocal.write(HAND.format(head='noise = "1.5 %"', metric=""))
    enter(ferocal, 0, "1000")
    enter(ferocal, 1, "1100")
    effect = ferocal.effect()
    half = 1.96 * np.sqrt(2) * 0.015
    expected = np.expm1([np.log(1.1) - half, np.log(1.1) + half])
    assert [effect["low"], effect["high"]] == pytest.approx(expected, abs=1e-4)
    assert (effect["method"], effect["verdict"]) == ("as stated", "better")
    assert "as-stated" in codes_of(effect)
    text = ferocal.quick("compare")
    assert (
        "better: kiosk-page +10 % (stated noise)" in text and "1 visit each, stated noise" in text
    )
    assert "¹ the interval assumes a stated noise" in text
    assert "better, as stated" in ferocal.quick("compare", "--detail")
    # The nearest statement counts, and what visits show themselves comes before any.
    ferocal.write(HAND.format(head='noise = "1.5 %"', metric='noise = "200 points"'))
    assert ferocal.effect()["verdict"] == "inconclusive"
    for value in ("1001", "999", "1002"):
        enter(ferocal, 0, value)
    assert ferocal.effect()["method"] == "noise floor"
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text()
    assert "method:noise-floor" in page and "seed" not in page


def test_a_noise_floor_comes_from_visits_of_any_study(typed: Ferocal) -> None:
    enter(typed, 0, "1000", "1004", "996", "1002")
    later = Ferocal(typed.directory / "later")
    later.directory.mkdir()
    later.write(HAND.format(head='schedule = "once"', metric=""))
    enter(later, 0, "1000")
    enter(later, 1, "1100")
    later.quick("noise-floor", "..")
    effect = later.effect()
    assert (effect["method"], effect["degrees"], effect["verdict"]) == ("noise floor", 3, "better")
    assert effect["noise_floor"] == {"age": None, "source": later.json("noise-floor")[
        "noise_floors"
    ][0]["source"]}  # fmt: skip
    assert later.json("noise-floor")["noise_floors"][0]["measured_at"] is None
    assert "of unknown age" in " ".join(later.quick("compare").split())


def test_visits_of_other_levels_serve_as_noise_floor(ferocal: Ferocal) -> None:
    months = ["jan", "feb", "mar", "apr"]
    levels = "\n".join(f"[factor.month.level.{month}]" for month in months)
    text = HAND.format(head="", metric="")
    start, rest = text.split("[factor.system.level.halden-4]\n[factor.system.level.halden-5]\n")
    ferocal.write(start + levels + "\n" + rest)
    values = {"jan": "1000 1004 996", "feb": "1010 1006 1014", "mar": "990 994 986", "apr": "1100"}
    for month, typed in values.items():
        ferocal.quick("enter", "kiosk-page", "--configuration", month, *typed.split())
    last = {e["configuration"]: e for e in ferocal.json("compare")["effects"]}["apr"]
    assert (last["method"], last["degrees"], last["verdict"]) == ("noise floor", 6, "better")
    assert last["noise_floor"]["source"] == "9 visits to jan, feb and mar"
    assert last["noise_floor"]["age"] is None  # nobody said when any of it was
    ferocal.quick("noise-floor")


@pytest.mark.parametrize(
    ("base", "other", "verdict", "change"),
    [
        (["36000", "36400", "36200"], [">38000"], "better", ">"),
        (["36000", "36400", "36200"], [">36100"], "inconclusive", ">"),
        (["36000", "36400", "36200"], ["<20000"], "worse", "<"),
        (["36000"], [">38000"], "seen once", ">"),
    ],
)
def test_a_bound_decides_only_where_it_must(
    typed: Ferocal, base: list[str], other: list[str], verdict: str, change: str
) -> None:
    enter(typed, 0, *base)
    enter(typed, 1, *other)
    effect = typed.effect()
    assert (effect["verdict"], effect["bound"], effect["method"]) == (verdict, change, "bound")
    for command in ("runs", "table"):
        assert other[0] in typed.quick(command).replace(GROUP, "")
    # Beside a number it enters no mean, and that is told.
    enter(typed, 1, "36000")
    effect = typed.effect()
    assert effect["bound"] is None and "bounds-left-out" in codes_of(effect)
    assert effect["change"] < 0 or base == ["36000"]


def test_ranges_and_settled_values_are_kept_as_they_were_seen(typed: Ferocal) -> None:
    cells = ["70..80", "70-80", "75 (70..80)", "72 (70–80)", ">38000", "74", "n/a: no sound", "-"]
    rows = [f'{LEVELS[n % 2]},"{cell}"' for n, cell in enumerate(cells)]
    (typed.directory / "cells.csv").write_text("\n".join(["configuration,value", *rows]) + "\n")
    preview = typed.quick("load", "cells.csv", "--preview")
    for shown in ("70..80 points", "72 (70..80) points", ">38000 points", "absent: no sound"):
        assert shown in preview, shown
    typed.quick("load", "cells.csv")
    runs = typed.json("runs")["run_list"]
    read = [run["values"]["score"] for run in runs if run["values"]]
    assert [(r["value"], r["low"], r["high"], r["bound"]) for r in read] == [
        (75, 70, 80, None), (75, 70, 80, None), (75, 70, 80, None), (72, 70, 80, None),
        (38000, None, None, ">"), (74, None, None, None),
    ]  # fmt: skip
    assert [run["absences"]["score"]["reason"] for run in runs if run["absences"]] == [
        "no sound", None,
    ]  # fmt: skip
    (typed.directory / "bad.csv").write_text('configuration,value\nhalden-4,"80..70"\n')
    assert "does not go from low to high" in typed.refusal("load", "bad.csv")


def test_more_evidence_is_told_only_where_it_can_be_had(ferocal: Ferocal) -> None:
    ferocal.write(HAND.format(head="", metric=""))
    for level, values in enumerate((["1000", "1030", "970"], ["1050", "1000", "1060"])):
        enter(ferocal, level, *values)
    effect = ferocal.effect()
    assert effect["more_rounds"] is None and effect["more_visits"] > 0
    assert "to each side should settle" in ferocal.quick("compare")
    assert "measure --rounds" not in ferocal.quick("compare")
    ferocal.write(HAND.format(head='schedule = "once"', metric=""))
    effect = ferocal.effect()
    # What was done once cannot be repeated; the number is for the next time.
    assert effect["more_rounds"] is None and effect["more_visits"] > 0
    assert "would have settled" in ferocal.quick("compare")
    # A range that nobody reads more finely does not shrink with any number of rounds.
    wide = Ferocal(ferocal.directory / "wide")
    wide.directory.mkdir()
    wide.write(HAND.format(head="", metric=""))
    for number in range(1, 7):
        for level, value in enumerate(("900..1100", f"{920 + number}..{1120 + number}")):
            enter(wide, level, value, "--round", str(number))
    assert wide.effect()["more_rounds_reason"] == "more than 100 rounds would be needed"
    assert "out of reach" in wide.quick("compare")


def test_a_gate_needs_evidence_whatever_is_looked_at(typed: Ferocal) -> None:
    enter(typed, 0, "1000")
    assert "no metric of halden-5 can be compared" in typed.quick(
        "compare", "--gate", "worse", status=3
    )
    enter(typed, 1, "1100")
    assert "is seen once on kiosk-page, without an interval" in typed.quick(
        "compare", "--gate", "worse", status=3
    )
    for level, values in enumerate((["1001", "999"], ["1101", "1099"])):
        enter(typed, level, *values)
    typed.quick("compare", "--gate", "worse")
    typed.quick("compare", "--gate", "worse", "--configuration", "halden-4", status=3)


def test_what_is_not_known_of_the_time_is_not_told(
    typed: Ferocal, monkeypatch: pytest.MonkeyPatch
) -> None:
    enter(typed, 0, "1000", "1001", "1002", "1003", "1004", "1005")
    enter(typed, 1, "1010", "1011", "1012", "1013", "1014", "1015")
    # The order in which readings were typed is no time in which they could drift.
    effect = typed.effect()
    assert not {"drift", "first-run"} & codes_of(effect)
    (seen,) = [c["seen"] for c in effect["caveats"] if c["code"] == "not-interleaved"]
    assert "their times are unknown" in seen
    assert {run["started_at"] for run in typed.json("runs")["run_list"]} == {None}
    assert "unknown" in typed.quick("runs")
    typed.quick("export", "out.json")
    assert (typed.directory / "out.json").read_text().count('"started_at": null') == 12
    # Where Ferocal runs is not where that was read.
    assert "architecture" not in typed.quick("inspect")
    typed.quick("report")
    page = (typed.directory / "report.html").read_text()
    assert "architecture" not in page and "times unknown" in page
    assert "Origin: 12 typed" in page and "mirrored" not in page and ">0</td>" not in page
    monkeypatch.setenv("TZ", "Asia/Tokyo")
    time.tzset()
    enter(typed, 0, "1000", "--visit", "x", "--date", "2026-05-01T14:30")
    monkeypatch.undo()
    time.tzset()
    (typed.directory / "y.csv").write_text(
        "configuration,value,visit,started_at\nhalden-5,1000.5,y,2026-05-01T14:30\n"
    )
    typed.quick("load", "y.csv")
    times = {run["started_at"] for run in typed.json("runs")["run_list"]} - {None}
    assert len(times) == 1  # read alike in both


def test_visits_far_apart_are_no_rounds_because_a_column_says_so(typed: Ferocal) -> None:
    months = [f"2026-{month:02d}-10" for month in range(1, 13)]
    rows = ["configuration,value,round,started_at"]
    rows += [f"halden-4,{1000 + n},{n + 1},{day}" for n, day in enumerate(months[:6])]
    rows += [f"halden-5,{1100 + n},{n + 1},{day}" for n, day in enumerate(months[6:])]
    (typed.directory / "year.csv").write_text("\n".join(rows) + "\n")
    typed.quick("load", "year.csv")
    effect = typed.effect()
    assert (effect["method"], effect["rounds"]) == ("between visits", 0)
    (seen,) = [c["seen"] for c in effect["caveats"] if c["code"] == "not-interleaved"]
    assert "30 days apart" in seen


NOTEBOOK = """
[study]
question = "Does Halden 5 slow the kiosk down?"
margin = "2 %"
[factor.system.level.halden-4]
[factor.system.level.halden-5]
[workload.kiosk]
instructions = "Read the page."
[workload.kiosk.metric]
page = { unit = "points", better = "higher" }
average = { unit = "fps", better = "higher" }
low = { unit = "fps", better = "higher" }
start = { unit = "s", better = "lower" }
memory = { unit = "MiB", better = "lower", plausible = [100, 9000] }
fan = { unit = "rpm", better = "lower" }
storage = { unit = "MB/s", better = "higher" }
sound = { unit = "dB", better = "lower" }
"""


def test_a_study_from_a_notebook_reads_as_a_colleague_would_put_it(ferocal: Ferocal) -> None:
    ferocal.write(NOTEBOOK)
    sides = (
        "page=5120 average=60.5 low=31 start=21,4 memory=2000 fan=1200..1300 storage=480 sound=33",
        "page=4988 average=66.1 low=24 start=23 memory=1000 fan=1400 storage=>550 sound=n/a:broken",
    )
    for level, side in enumerate(sides):
        ferocal.quick("enter", "kiosk", "--configuration", LEVELS[level], *side.split())
    assert len(ferocal.json("runs")["run_list"]) == 2
    effects = {e["metric"]: e for e in ferocal.json("compare")["effects"]}
    assert {e["verdict"] for e in effects.values()} == {"seen once"}
    assert effects["memory"]["change"] == -0.5
    assert (effects["storage"]["bound"], effects["storage"]["change"]) == (
        ">",
        pytest.approx(550 / 480 - 1),
    )
    (gap,) = ferocal.json("compare")["gaps"]
    assert (gap["metric"], gap["mark"], gap["reason"]) == ("sound", "absent", "broken")
    text = ferocal.quick("compare")
    assert "halden-5  seen once: memory −50 %, low −23 %, storage >+14.5 %" in text
    assert "One visit per configuration" in text and "no intervals" in text
    assert re.search(r"sound +dB +↓ +33 +absent¹\n", text) and "\n¹ broken\n" in text
    # The average goes up and the low goes down: told, although nothing is proven.
    (seen,) = {
        c["seen"] for e in effects.values() for c in e["caveats"] if c["code"] == "trade-off"
    }
    assert seen.endswith("gets worse (seen once)")
    assert not {"coarse", "magnitude", "two-modes"} & {
        c["code"] for e in effects.values() for c in e["caveats"]
    }
    table = ferocal.quick("table")
    for shown in ("1200..1300", ">550", "absent", "60.5"):
        assert shown in table, shown
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text()
    assert "neither interval nor verdict" in page
    assert "no effect of halden-5 on kiosk sound: absent, broken" in page and re.search(
        ">absent *</span>¹", page
    )
    for wrong in ("page=1 2", "page=1 page=2", "pgae=1", "memory=50"):
        ferocal.refusal("enter", "kiosk", "--configuration", "halden-5", *wrong.split())


def test_a_wrong_digit_is_told_and_can_be_corrected(typed: Ferocal) -> None:
    for number in (1, 2):
        for level, value in enumerate(("5900", "5910")):
            odd = "590" if (level, number) == (1, 2) else value
            enter(typed, level, odd, "--round", str(number))
    assert "magnitude" in codes_of(typed.effect())
    (run,) = [r for r in typed.json("runs")["run_list"] if r["values"]["score"]["value"] == 590]
    for wrong in (["page", "5900"], ["score", "fast"]):
        typed.refusal("correct", run["id"], *wrong, "--reason", "x")
    text = typed.quick("correct", run["id"], "score", "5905", "--reason", "a digit was missing")
    assert "590 points is now 5905 points" in text
    assert "magnitude" not in codes_of(typed.effect())
    (mended,) = [r for r in typed.json("runs")["run_list"] if r["id"] == run["id"]]
    read = mended["values"]["score"]
    assert (read["value"], read["before"]) == (5905, 590)
    assert read["corrected"] == "a digit was missing"
    assert "was 590" in typed.quick("runs")
    typed.quick("export", "out.csv")
    assert "5905" in (typed.directory / "out.csv").read_text()


def test_files_are_held_to_what_can_be_true(ferocal: Ferocal) -> None:
    ferocal.write(HAND.format(head="", metric="plausible = [100, 9000]"))
    (ferocal.directory / "a.csv").write_text("configuration,value\nhalden-4,59\nhalden-5,5900\n")
    assert "line 2, value: " in ferocal.refusal("load", "a.csv")
    rows = 'configuration,value,excluded\nhalden-4,59!,\nhalden-5,5900,\nhalden-5,12000,"a typo"\n'
    (ferocal.directory / "a.csv").write_text(rows)
    ferocal.quick("load", "a.csv")
    assert "implausible" in codes_of(ferocal.effect())
    assert len(ferocal.json("runs", "--excluded")["run_list"]) == 1


def test_the_best_of_several_is_stated_with_the_reading(typed: Ferocal) -> None:
    enter(typed, 0, "1000", "--statistic", "best", "--samples", "5")
    (typed.directory / "a.csv").write_text(
        "configuration,value,statistic,samples\nhalden-5,1010,mean,5\n"
    )
    typed.quick("load", "a.csv")
    assert "best-of" in codes_of(typed.effect())
    # Five values behind a score are no capture of five frames.
    assert "short-capture" not in codes_of(typed.effect())
    read = typed.json("runs")["run_list"][0]["values"]["score"]
    assert (read["statistic"], read["samples"]) == ("best", 5)
    bad = "configuration,value,statistic\nhalden-5,1010,highest\n"
    (typed.directory / "b.csv").write_text(bad)
    assert "single, mean, median, best" in typed.refusal("load", "b.csv")


def test_a_study_begins_with_factor_columns_of_several_files(ferocal: Ferocal) -> None:
    (ferocal.directory / "a.csv").write_text(
        "System,API,test,value,unit,note\nHalden 4,Größe,query,57,,x\nHalden 5,Größe,query,62,,x\n"
    )
    (ferocal.directory / "b.csv").write_text(
        "System,API,test,value,unit\nHalden 4,Øst,export,11,s\nHalden 5,点,export,10,s\n"
    )
    text = ferocal.quick(
        "new", "s", "--from", "a.csv", "--from", "b.csv", "--factor", "System", "--factor", "API",
        "--column", "workload=test",
    )  # fmt: skip
    assert "with 4 readings of a.csv, b.csv" in text
    for guess in ("the unit is points, for query score", "lower is better, for export score"):
        assert guess in text
    inspected = ferocal.quick("inspect", "--study", "s")
    for name in ("Halden-4+Größe", "Halden-4+Øst", "Halden-5+点"):
        assert name in inspected
    marks = {gap["mark"] for gap in ferocal.json("compare", "--study", "s")["gaps"]}
    assert marks == {"not measured"}


def test_cells_say_why_they_are_empty(ferocal: Ferocal) -> None:
    rule = '[configuration]\nimpossible = [{ system = "halden-5", workload = "soak" }]\n'
    text = HAND.format(head="rounds = 1\nruns = 1", metric="") + rule
    for name, metric in (("soak", "fps"), ("export", "s"), ("query", "s")):
        text += f'[workload.{name}.metric.m]\nunit = "{metric}"\nbetter = "lower"\n'
    ferocal.write(text)
    enter(ferocal, 0, "1000")
    enter(ferocal, 1, "not active")
    for name, value in (("soak", "50"), ("export", "9"), ("query", "8")):
        ferocal.quick("enter", name, "--configuration", "halden-4", value)
    ferocal.quick("enter", "query", "--configuration", "halden-5", "n/a: crashed")
    marks = {gap["workload"]: (gap["mark"], gap["reason"]) for gap in ferocal.json("table")["gaps"]}
    assert marks == {
        "kiosk-page": ("not active", None), "soak": ("impossible", None),
        "export": ("not measured", None), "query": ("absent", "crashed"),
    }  # fmt: skip
    legend = ferocal.quick("table")
    for word in ("impossible", "not active", "absent", "not measured"):
        assert word in legend
    assert "no soak" not in legend and "soak" not in ferocal.json("plan")["shortcomings"]
    ferocal.write(text.replace('"soak" }', '"sok" }'))
    assert 'did you mean "soak"' in ferocal.refusal("inspect")


@pytest.mark.parametrize("encoding", ["latin-1", "ascii", "utf-8"])
def test_a_terminal_without_our_signs_gets_plain_ones(typed: Ferocal, encoding: str) -> None:
    enter(typed, 0, "1000", "1002", "1001")
    enter(typed, 1, "900", "902", "901")
    typed.quick("note", "it\x1b[31m flickers\u200b, Größe 点")
    typed.write(HAND.format(head="", metric="").replace("Which system", "Which\\u200b system"))
    for command in ("compare", "note"):
        done = subprocess.run(
            [PROGRAM, command],
            cwd=typed.directory,
            env={**surroundings(), "PYTHONIOENCODING": f"{encoding}:strict"},
            capture_output=True,
            check=True,
        )
        text = done.stdout.decode(encoding)
        if command == "compare":
            assert "Which\\u200b system" in text
            assert ("worse: kiosk-page -9.9" in text) is (encoding != "utf-8")
            # Words stand for signs where there are none.
            assert bool(re.search(r"-9.99 .*% worse", text)) is (encoding != "utf-8")
            assert ("▼ worse" in text) is (encoding == "utf-8")
        else:
            assert "it\\x1b[31m flickers\\u200b" in text
            assert ("\\u70b9" in text) is (encoding != "utf-8")


def test_an_operator_goes_back_and_leaves_out_what_cannot_be_read(ferocal: Ferocal) -> None:
    ferocal.write(
        NOTEBOOK.split("start =")[0].replace("[factor", "rounds = 1\nruns = 2\n[factor", 1)
    )
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(ferocal.directory), env=surroundings(), encoding="utf-8",
        timeout=PATIENCE, dimensions=(40, 120),
    )  # fmt: skip

    def type_value(name: str, text: str) -> None:
        terminal.expect(f"{name}, .*help.*: ")
        terminal.sendline(text)

    type_value("page", "512")
    type_value("average", "b")  # a digit was missing
    type_value("page", "5120")
    type_value("average", "60")
    type_value("low", "- the overlay was off")
    type_value("page", "b")  # back into the run before, of which the average was typed last
    type_value("average", "61")
    type_value("page", ">5000")
    type_value("average", "75 (70..80)")
    type_value("low", "not active")
    for number in range(2):
        for name in ("page", "average", "low"):
            type_value(name, str(40 + number))
    terminal.expect("the plan is complete")
    terminal.expect(pexpect.EOF)
    runs = ferocal.json("runs")["run_list"]
    first, second = runs[0], runs[1]
    assert first["values"]["page"]["value"] == 5120
    assert (first["values"]["average"]["value"], first["values"]["average"]["before"]) == (61, 60)
    assert first["absences"]["low"] == {"mark": "absent", "reason": "the overlay was off"}
    assert second["values"]["page"]["bound"] == ">" and second["values"]["average"]["low"] == 70
    assert second["absences"]["low"]["mark"] == "not active"


def test_readings_of_a_configuration_that_is_gone_are_in_no_other_unit(typed: Ferocal) -> None:
    enter(typed, 0, "1000")
    enter(typed, 1, "1010")
    typed.write(
        HAND.format(head="", metric="")
        .replace("level.halden-5", "level.halden-6")
        .replace('unit = "points"', 'unit = "marks"')
    )
    for name in ("halden-4", "halden-6"):
        typed.quick("enter", "kiosk-page", "--configuration", name, "500")
    (seen,) = [c["seen"] for c in typed.effect()["caveats"] if c["code"] == "other-unit"]
    assert seen.startswith("1 reading of score in points")


def test_durations_are_seen_under_every_schedule(
    small_study: Callable[..., Ferocal],
) -> None:
    ferocal = small_study(rounds='1\nschedule = "once"')
    ferocal.write((ferocal.directory / "study.toml").read_text().replace("rounds = 1\n", ""))
    assert ferocal.json("plan")["cost"]["seconds"] is None
    ferocal.quick("measure")
    assert ferocal.json("plan")["cost"]["seconds"] > 0


def test_numbers_in_sentences_are_like_those_in_tables() -> None:
    assert sized(SizedShift(1234.0, "difference", "MiB")) == "+1234 MiB"
    assert sized(SizedShift(-0.0125, "difference", "s")) == "\N{MINUS SIGN}0.013 s"
    assert sized(SizedShift(float(np.log(45.4 / 60.5)), "ratio", "fps")) == "\N{MINUS SIGN}25 %"
    assert sized(SizedShift(float(np.log(2100.0)), "ratio", "fps")) == f"+209{GROUP}900 %"
