"""What counts as evidence where readings come from people, files and single visits."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from conftest import Ferocal

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
    runs = typed.json("runs", "--configuration", "halden-4")["runs"]
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
    assert len(typed.json("runs", "--configuration", "halden-4")["runs"]) == 7


def test_a_file_that_has_grown_does_not_double_its_rows(typed: Ferocal) -> None:
    old = [f"{LEVELS[n % 2]},{1000 - 200 * (n % 2) + n / 10:g}" for n in range(14)]
    file = typed.directory / "scores.csv"
    file.write_text("\n".join(["configuration,value", *old]) + "\n")
    typed.quick("load", "scores.csv")
    before = typed.effect()
    file.write_text("\n".join(["configuration,value", *old, "halden-4,777", "halden-5,778"]) + "\n")
    ledger = (typed.directory / "ledger.sqlite").read_bytes()
    message = typed.refusal("load", "scores.csv")
    assert "14 rows are in the ledger already, 2 are new; nothing was recorded" in message
    assert (typed.directory / "ledger.sqlite").read_bytes() == ledger
    assert "rows left out that are in the ledger already: 14" in typed.quick(
        "load", "scores.csv", "--only-new"
    )
    assert len(typed.json("runs")["runs"]) == 16
    typed.quick("load", "scores.csv", "--only-new")
    assert len(typed.json("runs")["runs"]) == 16
    assert typed.effect()["visits"] == before["visits"] + 1
    # A date that is stated now and was not before makes no other row of it.
    dated = "configuration,value,started_at\nhalden-4,777,2026-05-01\nhalden-4,779,2026-05-01\n"
    (typed.directory / "dated.csv").write_text(dated)
    assert "1 row is in the ledger already, 1 is new" in typed.refusal("load", "dated.csv")
    typed.quick("load", "scores.csv", "--again")
    assert len(typed.json("runs")["runs"]) == 32


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
            enter(ferocal, level, f"{20 + 0.01 * (number % 3):.2f}", "--round", str(number))
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
    # With four more common rounds these carry more, for they take out what a round shares.
    for number in range(1, 5):
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
    assert "better, as stated" in text and "noise as stated" in text
    # The nearest statement counts, and what visits show themselves comes before any.
    ferocal.write(HAND.format(head='noise = "1.5 %"', metric='noise = "200 points"'))
    assert ferocal.effect()["verdict"] == "inconclusive"
    for value in ("1001", "999", "1002"):
        enter(ferocal, 0, value)
    assert ferocal.effect()["method"] == "noise floor"
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text()
    assert "their interval comes from a noise floor" in page and "seed" not in page


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
        assert other[0] in typed.quick(command).replace(",", "")
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
    runs = typed.json("runs")["runs"]
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
    assert "to each side would be expected" in ferocal.quick("compare")
    assert "measure --rounds" not in ferocal.quick("compare")
    ferocal.write(HAND.format(head='schedule = "once"', metric=""))
    effect = ferocal.effect()
    assert (effect["more_rounds"], effect["more_visits"]) == (None, None)
    # A range that nobody reads more finely does not shrink with any number of rounds.
    wide = Ferocal(ferocal.directory / "wide")
    wide.directory.mkdir()
    wide.write(HAND.format(head="", metric=""))
    for number in range(1, 7):
        for level, value in enumerate(("900..1100", f"{920 + number}..{1120 + number}")):
            enter(wide, level, value, "--round", str(number))
    assert wide.effect()["more_rounds_reason"] == "more than 100 rounds would be needed"
    assert "out of reach (> 100)" in wide.quick("compare")


def test_a_gate_needs_evidence_whatever_is_looked_at(typed: Ferocal) -> None:
    enter(typed, 0, "1000")
    assert "nothing of halden-5 can be compared" in typed.quick(
        "compare", "--gate", "worse", status=3
    )
    enter(typed, 1, "1100")
    assert "is seen once, without an interval" in typed.quick(
        "compare", "--gate", "worse", status=3
    )
    for level, values in enumerate((["1001", "999"], ["1101", "1099"])):
        enter(typed, level, *values)
    typed.quick("compare", "--gate", "worse")
    typed.quick("compare", "--gate", "worse", "--configuration", "halden-4", status=3)


def test_what_is_not_known_of_the_time_is_not_told(typed: Ferocal, tmp_path: Path) -> None:
    enter(typed, 0, "1000", "1001", "1002", "1003", "1004", "1005")
    enter(typed, 1, "1010", "1011", "1012", "1013", "1014", "1015")
    # The order in which readings were typed is no time in which they could drift.
    effect = typed.effect()
    assert not {"drift", "first-run"} & codes_of(effect)
    (seen,) = [c["seen"] for c in effect["caveats"] if c["code"] == "not-interleaved"]
    assert "when they were measured is not known" in seen
    assert {run["started_at"] for run in typed.json("runs")["runs"]} == {None}
    assert "unknown" in typed.quick("runs")
    typed.quick("export", "out.json")
    assert (typed.directory / "out.json").read_text().count('"started_at": null') == 12
    typed.quick("report")
    page = (typed.directory / "report.html").read_text()
    assert "at a time that nobody recorded" in page
    assert "Of the runs, 12 typed" in page and "mirrored" not in page and ">0</td>" not in page
    enter(typed, 0, "1000", "--visit", "x", "--date", "2026-05-01T14:30")
    (typed.directory / "y.csv").write_text(
        "configuration,value,visit,started_at\nhalden-5,1000.5,y,2026-05-01T14:30\n"
    )
    typed.quick("load", "y.csv")
    times = {run["started_at"] for run in typed.json("runs")["runs"]} - {None}
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
    assert "30 days lie between them" in seen
