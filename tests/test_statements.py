"""What answers say of small tables: nothing that these do not show."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from typing import Any, get_args

import numpy as np
import pandas as pd
import pytest

import ferocal as face
from conftest import Ferocal
from ferocal.analysis.caveats.table import BARS
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.claims import ClaimTest, judge_claims
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.weights import Arm
from ferocal.media.figures.overview import nearest_references
from ferocal.media.figures.series import not_drawn
from ferocal.study.base import Barring
from simulation import simulate


def begun(tmp_path: Path, table: str, *further: str, toml: str = "") -> Ferocal:
    """A study begun from a table, with more in its study file."""
    tmp_path.mkdir(exist_ok=True)
    (tmp_path / "table.csv").write_text(table)
    place = tmp_path / "study"
    Ferocal(tmp_path).quick("new", str(place), "--from", "table.csv", *further)
    ferocal = Ferocal(place)
    if toml:
        text = (place / "study.toml").read_text(encoding="utf-8")
        ferocal.write(text + toml)
    return ferocal


def in_rounds(cells: Mapping[tuple[str, str, str, str], Sequence[float | str]]) -> str:
    """A long table: by configuration, workload, metric and unit the values of rounds."""
    lines = ["configuration,workload,metric,unit,value,round"]
    for place, values in cells.items():
        lines += [f"{','.join(place)},{value},{n}" for n, value in enumerate(values, 1)]
    return "\n".join(lines)


WIDE = "Workload,Pelican,Wren\npage,100,101\ncanvas,100,50\nvideo,100,50\n"


def test_a_ranking_without_rounds_is_over_all_metrics_and_as_read(tmp_path: Path) -> None:
    ferocal = begun(tmp_path, WIDE, toml="[preference.reader]\nweights = { page = 1 }\n")
    answer = ferocal.json("rank")
    overall = [r for r in answer["ranking"] if r["metric"] == "index"]
    assert [r["configuration"] for r in overall] == ["Pelican", "Wren"]
    assert overall[1]["value"] == pytest.approx((1.01 * 0.5 * 0.5) ** (1 / 3))
    assert overall[1]["low"] is None and overall[1]["chance_of_first"] is None
    text = ferocal.quick("rank")
    assert "As read, Pelican is first in all metrics together" in text
    assert "is ahead" not in text and "0 %" not in text
    wanted = ferocal.json("rank", "--for", "reader")
    (pelican, wren) = (r for r in wanted["ranking"] if r["metric"] == "reader")
    assert (pelican["configuration"], wren["configuration"]) == ("Wren", "Pelican")
    # Wins count over what is weighed alone.
    assert {sum(t[k] for k in ("wins", "losses", "ties", "open")) for t in wanted["tally"]} == {1}


def test_what_cannot_enter_a_ranking_comes_first_with_its_own_reason(tmp_path: Path) -> None:
    cells = {
        ("a", "w", "time", "s"): (10.0, 10.1, 10.2),
        ("b", "w", "time", "s"): (9.0, 9.1, 9.0),
        ("a", "v", "rate", "fps"): (50.0, 51.0, 50.0),
        ("b", "v", "rate", "fps"): (50.0, 52.0, 51.0),
        ("a", "v", "heat", "°C"): (50.0, 51.0, 50.0),
        ("b", "v", "heat", "°C"): (49.0, 51.0, 50.0),
        ("a", "v", "drift", "ms"): (0.0, 1.0, 2.0),
        ("b", "v", "drift", "ms"): (1.0, 1.0, 2.0),
        ("a", "x", "score", "points"): (9.0, 9.0, 9.0),
    }
    ferocal = begun(tmp_path, in_rounds(cells))
    text = (ferocal.directory / "study.toml").read_text(encoding="utf-8")
    # A margin in the unit does not take the ratios from a time.
    ferocal.write(text.replace('unit = "s"', 'unit = "s"\nmargin = "0.2 s"'))
    first = ferocal.quick("rank").split("\n\n")[1]
    assert first.startswith("Ranked by all metrics together, without ")
    answer = ferocal.json("rank")
    assert {metric: why for _, metric, why in answer["why_not_in_index"]} == {
        "v heat": "has no natural zero",
        "v drift": "may be zero or negative",
        "x": "not read everywhere",
    }
    index = {r["configuration"]: r for r in answer["ranking"] if r["metric"] == "index"}
    time, rate = 27.1 / 30.3, 1.0132
    assert index["b"]["value"] == pytest.approx((rate / time) ** 0.5, rel=0.01)


def test_what_reading_leaves_uncertain_in_a_metric_is_in_the_index(tmp_path: Path) -> None:
    cells: dict[tuple[str, str, str, str], Sequence[float | str]] = {
        ("a", "w", "time", "s"): (10.0, 10.01, 10.02),
        ("b", "w", "time", "s"): (9.0, 9.01, 9.02),
        ("a", "v", "rate", "fps"): ("30..90",) * 3,
        ("b", "v", "rate", "fps"): ("40..80",) * 3,
    }
    ferocal = begun(tmp_path, in_rounds(cells))
    (index,) = (
        r for r in ferocal.json("rank")["ranking"] if r["metric"] == "index" if r["low"] != 1
    )
    # Half of the weight is on a metric whose readings are off by 33 and 50 % at most.
    assert index["high"] / index["low"] > 1.5
    effects = ferocal.json("factors")["factors"]
    (factor,) = (e for e in effects if e["metric"] == "index")
    assert factor["high"] - factor["low"] > 0.4


RELEASES = """
[study]
question = "Which firmware is faster?"
margin = "1 %"
noise = "0.5 %"
[bench.foyer]
[bench.gallery]
[factor.fw]
order = "file"
[factor.fw.level.a]
[factor.fw.level.b]
[factor.fw.level.c]
[workload.page.metric.score]
unit = "points"
better = "higher"
[claim.quiet]
says = "It stays within its noise."
metric = "page score"
configuration = "b"
within = "noise"
"""


def test_every_question_uses_the_noise_that_is_stated(ferocal: Ferocal) -> None:
    ferocal.write(RELEASES)
    values = {"foyer": (100.0, 100.3, 104.0), "gallery": (98.0, 98.2, 101.0)}
    for bench, of_bench in values.items():
        for name, value in zip("abc", of_bench, strict=True):
            place = ("--configuration", name, "--bench", bench, "--date", "2026-05-01")
            ferocal.quick("enter", "page", str(value), *place)
    half = 1.96 * math.sqrt(2) * 0.005

    def width(low: float, high: float) -> float:
        return (math.log(high) - math.log(low)) / 2

    for effect in ferocal.json("compare")["effects"]:
        assert width(1 + effect["low"], 1 + effect["high"]) == pytest.approx(half, rel=1e-3)
    series = [v for v in ferocal.json("series", "fw")["release_values"] if v["against_before"]]
    assert len(series) == 4
    for value in series:
        ends = [1 + value["against_before"][end] for end in ("low", "high")]
        assert width(*ends) == pytest.approx(half, rel=1e-3)
    ranked = ferocal.json("rank")["ranking"]
    assert min(r["chance_of_first"] for r in ranked if r["configuration"] == "c") > 0.99
    for standing in ranked:
        ends = [standing["low"], standing["high"]]
        assert width(*ends) == pytest.approx(half / math.sqrt(2), rel=1e-3)
    for lead in ferocal.json("compare", "--across", "benches")["leads"]:
        assert width(1 + lead["low"], 1 + lead["high"]) == pytest.approx(half, rel=1e-3)
    for chart in face.open(ferocal.directory).charts():
        for name, cell in chart.rows[0].cells.items():
            if name != "a":
                assert (cell.high - cell.low) / 2 == pytest.approx(half, rel=1e-3)
    text = ferocal.quick("claims")
    assert "not known here" not in text and "±0.98 %" in text
    # All visits to one release are one visit each: none was joined to another.
    assert "count as one" not in ferocal.quick("series", "fw")


def test_claims_on_noise_take_account_of_how_well_it_is_known() -> None:
    """A change at the edge of the band is called within in 5 % of studies, and not in 10."""
    edge = 1.96 * 0.01 * math.sqrt(2)
    verdicts = []
    for seed in range(400):
        chance = np.random.default_rng([9, seed])
        readings = simulate(
            chance, change=math.expm1(edge), rounds=8, runs=1, run_sd=0.01, visit_sd=0.01, drift=0
        )
        variance = 2e-4 * chance.chisquare(6) / 6
        floor = NoiseFloor("ratio", variance, 6, 1.0, math.nan, 0, "an earlier study")
        setting = Setting(noise_floors={("node", readings.series[0]): floor})
        once = readings.select(readings.round_of < 0)
        assert not len(once.value)
        weights = ((Arm(0, 0, 1), 1.0), (Arm(0, 0, 0), -1.0))
        # Two visits to each side, so that the noise is that of the earlier study.
        few = readings.select(readings.round_of <= 2)
        test = ClaimTest(weights, -math.inf, math.inf, noise=True)
        verdicts += [str(judge_claims(few, [test], setting)[0].verdict)]
    assert verdicts.count("supported") <= 0.05 * 400 + 2 * 4.4


CLAIMED = """
[study]
question = "Is b faster?"
margin = "1 %"
[factor.f.level.a]
[factor.f.level.b]
[workload.page.metric.score]
unit = "points"
better = "higher"
[claim.faster]
says = "It is faster."
metric = "page score"
configuration = "b"
at-least = "2 %"
"""


@pytest.mark.parametrize(
    ("minutes", "form", "before"),
    [
        (60, "%Y-%m-%dT%H:%M:%S+00:00", True),
        (-60, "%Y-%m-%dT%H:%M:%S+00:00", False),
        (0, "%Y-%m-%d", None),
        (30, "%Y-%m-%dT%H:%M:%S", None),
        (-30, "%Y-%m-%dT%H:%M:%S", None),
        (3 * 1440, "%Y-%m-%d", True),
        (-3 * 1440, "%Y-%m-%dT%H:%M:%S", False),
    ],
)
def test_what_is_older_is_known_only_as_well_as_times_are(
    ferocal: Ferocal, minutes: int, form: str, before: bool | None
) -> None:
    ferocal.write(CLAIMED)
    ferocal.quick("claims")
    when = (datetime.now(UTC) + timedelta(minutes=minutes)).strftime(form)
    told = ferocal.quick("enter", "page", "100", "--configuration", "a", "--date", when)
    assert ("taken as UTC" in told) == ("T" in when and "+" not in when)
    assert ferocal.json("claims")["claims"][0]["written_before"] is before
    text = ferocal.quick("claims")
    assert ("unknown whether" in text) == (before is None)


def test_two_studies_without_intervals_are_compared_and_the_speed_is_what_is_lower(
    tmp_path: Path,
) -> None:
    tables = {"here": (100.0, 161.0), "there": (100.0, 133.0)}
    for name, (base, other) in tables.items():
        (tmp_path / name).mkdir()
        begun(tmp_path / name, f"Workload,a,b\npage,{base},{other}\n")
    here = Ferocal(tmp_path / "here" / "study")
    text = here.quick("compare", "--between", "study", str(tmp_path / "there" / "study"))
    assert "No interval for every comparison" in text
    text = " ".join(text.split())
    assert "the speed-up is 17 % lower, the gain 61 → 33 % (difference not significant)" in text
    (row,) = here.json("compare", "--between", "study", str(tmp_path / "there" / "study"))[
        "differences"
    ]
    assert row["verdict"] == "seen once" and row["low"] is None


def test_the_baseline_against_itself_is_told_as_that(tmp_path: Path) -> None:
    ferocal = begun(tmp_path, WIDE)
    text = ferocal.quick("compare", "--configuration", "Pelican")
    assert "Pelican is the baseline itself" in text and "Nothing to compare yet" not in text


SOAKS = """
[study]
question = "Does it throttle?"
margin = "1 %"
[bench.foyer]
[bench.gallery]
[factor.fw]
order = "file"
[factor.fw.level.a]
[factor.fw.level.b]
[workload.soak.metric.rate]
kind = "soak"
unit = "fps"
better = "higher"
source = { file = "*", column = "fps", interval = "1 s" }
"""


def test_benches_that_are_not_asked_for_are_not_spoken_of(ferocal: Ferocal) -> None:
    ferocal.write(SOAKS)
    for name, rate in (("a", 60), ("b", 59)):
        rows = [f"{rate + n % 3}" for n in range(300)]
        (ferocal.directory / f"{name}.csv").write_text("\n".join(["fps", *rows]))
        place = ("--configuration", name, "--workload", "soak", "--bench", "foyer")
        ferocal.quick("load-trace", f"{name}.csv", *place)
    text = ferocal.quick("soak", "--bench", "foyer")
    assert "Nothing to compare" not in text and "gallery" not in text


def test_a_figure_of_releases_draws_what_changed_on_every_bench_and_names_the_rest() -> None:
    names = [f"m{n}" for n in range(8)]
    series = [Series("page", name, "points", "higher", 0.01, label=name) for name in names]

    def step(bench: str, n: int) -> Any:
        return SimpleNamespace(bench=bench, series=series[n])

    steps = [*(step("foyer", n) for n in range(5)), step("gallery", 7)]
    values = [SimpleNamespace(series=s) for s in series]
    answer: Any = SimpleNamespace(steps=steps, values=values, asked=False)
    left = {s.metric for s in not_drawn(answer)}
    assert len(left) == 3 and "m7" not in left


def test_references_next_to_ours_are_drawn() -> None:
    cells = {"a": SimpleNamespace(gain=0.0), "b": SimpleNamespace(gain=0.1)}
    gains = [2.0, 1.5, -1.0, 0.2, 0.05, -0.1, 0.9]
    references = [SimpleNamespace(gain=gain) for gain in gains]
    row: Any = SimpleNamespace(cells=cells, references=references)
    assert [r.gain for r in nearest_references(row)] == [-0.1, 0.05, 0.2]


CORES = """
[study]
question = "Do more cores help?"
margin = "1 %"
[factor.cores.level.one]
quantity = 1
[factor.cores.level.two]
quantity = 2
[factor.cores.level.four]
quantity = 4
[workload.query.metric.rate]
unit = "queries/s"
better = "higher"
[workload.query.metric.each]
from = "rate / cores"
better = "higher"
"""


def test_what_is_per_unit_already_is_not_divided_again(ferocal: Ferocal) -> None:
    ferocal.write(CORES)
    for name, value in (("one", 100), ("two", 190), ("four", 340)):
        ferocal.quick("enter", "query", str(value), "--configuration", name, "--metric", "rate")
    text = ferocal.quick("factors")
    assert "nan" not in text and " inf" not in text
    rows = [line.split() for line in text.splitlines() if line.startswith("query ")]
    assert [row[1] for row in rows] == ["1.90", "3.40"]  # of each there is no table
    assert all(line[-2:] == ["seen", "once"] for line in rows)
    plain = {
        r["configuration"]: r for r in ferocal.json("rank")["ranking"] if r["metric"] == "each"
    }
    per = ferocal.json("rank", "--per", "cores")["ranking"]
    for row in per:
        name, value = row["configuration"], row["value"]
        if row["metric"] == "each":
            assert value == pytest.approx(plain[name]["value"])
        if row["metric"] == "rate":
            assert value == pytest.approx({"one": 100, "two": 95, "four": 85}[name])
        if row["metric"] == "index":
            # Both of its metrics are per core, and neither twice.
            assert value == pytest.approx({"one": 1, "two": 0.95, "four": 0.85}[name])


def test_no_share_is_told_of_parts_that_may_be_noise(tmp_path: Path) -> None:
    chance = np.random.default_rng(3)
    rows = ["configuration,factor:api,factor:driver,workload,metric,unit,value,round"]
    for number in range(1, 7):
        for api, driver in (("gl", "r61"), ("vk", "r61"), ("gl", "r64"), ("vk", "r64")):
            value = 60 * math.exp(chance.normal(0.001 * (api == "vk"), 0.01))
            rows.append(f"{api}-{driver},{api},{driver},flight,rate,fps,{value},{number}")
    ferocal = begun(tmp_path, "\n".join(rows))
    assert "% of it)" not in ferocal.quick("factors", "--against", "gl-r61", "--to", "vk-r64")


DIFFERING = """
[study]
question = "Is it faster?"
margin = "1 %"
rounds = 3
runs = 1
[factor.mode.level.off]
[factor.mode.level.on]
environment = {{ GAIN = "120" }}
[workload.flight]
shell = true
command = "echo score ${{GAIN:-100}}"
version = "sh -c 'echo ${{GAIN:-100}}'"
{accept}
[workload.flight.metric.score]
unit = "points"
better = "higher"
role = "primary"
resolution = 0.1
source = {{ pattern = "score ([0-9.]+)" }}
[claim.faster]
says = "It is faster."
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""


INCOMPARABLE = """
[study]
question = "Which driver loads the lobby sooner?"
margin = "2 %"
[workload.load.metric]
time = { unit = "s", better = "lower" }
[factor.driver.level]
a = {}
b = {}
c = {}
"""


def test_a_report_is_written_where_nothing_is_left_to_draw(ferocal: Ferocal) -> None:
    ferocal.write(INCOMPARABLE)
    seconds = {"a": 1.0, "b": 1001.5, "c": 1002.5}  # two of them rather in milliseconds
    rows = [
        f"{name},load,time,{value + n / 100},{n}"
        for n in (1, 2, 3)
        for name, value in seconds.items()
    ]
    file = ferocal.directory / "readings.csv"
    file.write_text("\n".join(["configuration,workload,metric,value,round", *rows]))
    ferocal.quick("load", "readings.csv")
    assert {e["verdict"] for e in ferocal.json("compare")["effects"]} == {"not comparable"}
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    assert "Not comparable" in page and "<h2>Chart</h2>" not in page
    status, _, error = ferocal.attempt("chart")
    assert status == 2 and "no change against the baseline is known" in error


def test_what_is_not_comparable_has_no_verdict_anywhere(ferocal: Ferocal) -> None:
    ferocal.write(DIFFERING.format(accept=""))
    ferocal.quick("measure")
    (effect,) = ferocal.json("compare")["effects"]
    assert effect["verdict"] == effect["mark"] == "not comparable"
    text = ferocal.quick("compare")
    assert "Not comparable: flight with on (the workload differs: version" in text
    assert "better" not in text.partition("next")[0].replace("not comparable", "")
    status, _, error = ferocal.attempt("compare", "--gate", "worse")
    assert status == 3 and "is not comparable on flight (the workload differs" in error
    (claim,) = ferocal.json("claims")["claims"]
    assert claim["verdict"] == "undecided"
    assert "not comparable: the workload differs" in ferocal.quick("claims")
    status, out, error = ferocal.attempt("rank")
    assert "leads" not in out and status in (0, 2)
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    assert "Not comparable" in page and "\N{NOT EQUAL TO}" in page
    # Whoever knows better says why, and that is told beside what was seen.
    accept = 'accept = ["workload-differs"]\naccept-because = "only the number is another"'
    ferocal.write(DIFFERING.format(accept=accept))
    (effect,) = ferocal.json("compare")["effects"]
    assert effect["verdict"] == "better"
    text = " ".join(ferocal.quick("compare").split())
    assert "the workload differs" in text and "accepted: only the number is another" in text
    assert ferocal.json("claims")["claims"][0]["verdict"] == "supported"
    ferocal.write(DIFFERING.format(accept='accept = ["workload-differs"]'))
    assert "accept-because (the reason)" in ferocal.refusal("compare")


def test_what_can_be_accepted_is_what_bars() -> None:
    assert set(get_args(Barring)) == {kind.code for kind in BARS}


def test_a_best_value_beside_others_is_flagged_whichever_way_it_came(tmp_path: Path) -> None:
    rows = "configuration,workload,value,statistic,samples\nPelican,page,100,,\n"
    for number, (first, second) in enumerate((("", "best"), ("best", ""))):
        (tmp_path / str(number)).mkdir()
        ferocal = begun(tmp_path / str(number), rows.replace("100,,", f"100,{first},5")
                        + f"Wren,page,104,{second},\n")  # fmt: skip
        (effect,) = ferocal.json("compare")["effects"]
        codes = [c["code"] for c in effect["caveats"]]
        assert "best-of" in codes and "short-capture" not in codes
        for command in ("table", "rank"):
            assert "mixes statistics" in ferocal.quick(command), command


def test_a_tenfold_gap_is_told_when_it_is_recorded_and_in_the_headline(tmp_path: Path) -> None:
    ferocal = begun(tmp_path, "Workload,Pelican,Wren\npage,912,64\n")
    told = Ferocal(tmp_path).quick("new", "again", "--from", "table.csv")
    assert "with Pelican is 912.0 points, the others are near 64" in told
    (effect,) = ferocal.json("compare")["effects"]
    assert "magnitude" in [c["code"] for c in effect["caveats"]]
    assert "(doubtful)" in ferocal.quick("compare")
    told = ferocal.quick("enter", "page", "6.6", "--configuration", "Wren")
    match = re.search(r"doubtful: page score .* (ferocal correct (\w{10}) score) VALUE", told)
    assert match is not None
    ferocal.quick("correct", match[2], "score", "66", "--reason", "a digit was missing")
    again = ferocal.quick("correct", match[2], "score", "67", "--reason", "misread again")
    assert "66 points is now 67 points" in again


def test_corrections_exclusions_and_changes_of_the_study_are_told(small_study: Any) -> None:
    ferocal = small_study(rounds=3)
    ferocal.quick("measure")
    runs = ferocal.json("runs")["run_list"]
    for wrong in ("", "  "):
        assert "say why" in ferocal.refusal("exclude", runs[0]["id"], "--reason", wrong)
    assert "too short" in ferocal.refusal("exclude", runs[0]["id"][:5], "--reason", "dark")
    done = ferocal.quick("exclude", runs[0]["id"][:6], "--reason", "dark")
    assert f"{runs[0]['id']} ({runs[0]['configuration']}, flight, round 1, score" in done
    before = runs[1]["values"]["score"]["value"]
    ferocal.quick("correct", runs[1]["id"], "score", "90", "--reason", "a slip")
    for command in ("compare", "table"):
        assert "1 reading is corrected" in ferocal.quick(command)
    assert f"was {before:.12g} points (a slip)" in ferocal.quick("compare", "--detail")
    ferocal.quick("export", "all.csv")
    frame = pd.read_csv(ferocal.directory / "all.csv")
    (row,) = frame[frame["corrected_from"].notna()].to_dict("records")
    assert (row["value"], row["corrected_from"]) == (90, before)
    text = (ferocal.directory / "study.toml").read_text(encoding="utf-8")
    changed = text.replace("rounds = 3", "rounds = 4").replace("dome faster", "dome slower")
    ferocal.write(changed + '\n[configuration]\nbaseline = { mode = "on" }\n')
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    for told in (
        "number of rounds changed from 3 to 4 since measuring began",
        "the question changed from", "the baseline changed from the first configuration",
    ):  # fmt: skip
        assert told in " ".join(ferocal.quick("compare", "--detail").split())
        assert told in page
    assert "a slip" in page


def test_a_visit_that_was_set_aside_is_shown(small_study: Any) -> None:
    verify = 'verify = [{ command = "cat mode", equals = "on" }]'
    ferocal = small_study(rounds=1, verify=verify)
    (ferocal.directory / "mode").write_text("off")
    ferocal.attempt("measure")
    (ferocal.directory / "mode").write_text("on")
    ferocal.quick("measure")
    line = 'visit set aside, on, round 1: mode=on: expected equals "on", seen "off"'
    assert line in ferocal.quick("runs")
    ferocal.quick("report")
    assert "mode=on: expected equals" in (ferocal.directory / "report.html").read_text("utf-8")


def test_pairs_of_configurations_keep_their_rounds_whatever_is_added(tmp_path: Path) -> None:
    chance = np.random.default_rng(8)
    begin = datetime(2026, 5, 1, tzinfo=UTC)
    rows = []
    order = [(name, n) for n in range(1, 6) for name in ("ab" if n % 2 else "ba")]
    # A third one is measured afterwards, under the same numbers, then all of them in turn.
    order += [("c", n) for n in range(1, 6)]
    later = [(name, n) for n in range(6, 12) for name in "abc"]
    for moment, (name, n) in enumerate([*order, *later]):
        at = (begin + timedelta(hours=moment)).isoformat()
        value = 100 + 3 * (name == "b") + 9 * n + chance.normal()
        rows.append(f"{name},page,{value:.3f},{n},{at}")
    head = "configuration,workload,value,round,started_at\n"

    def effects(rows: list[str], place: str) -> dict[str, Any]:
        ferocal = begun(tmp_path / place, head + "\n".join(rows))
        return {e["configuration"]: e for e in ferocal.json("compare")["effects"]}

    alone = effects([row for row in rows[:15] if row[0] != "c"], "alone")
    first = effects(rows[:15], "first")
    keys = ("method", "rounds", "change", "low", "high")
    assert [first["b"][k] for k in keys] == [alone["b"][k] for k in keys]
    assert first["b"]["method"] == "paired by round"
    assert (first["c"]["method"], first["c"]["rounds"]) == ("between visits", 0)
    whole = effects(rows, "whole")
    assert (whole["b"]["rounds"], whole["c"]["rounds"]) == (11, 6)
    # What is entered without a visit is doubtful alone.
    ferocal = Ferocal(tmp_path / "whole" / "study")
    ferocal.quick("enter", "page", "160", "161", "--configuration", "c")
    found = {
        e["configuration"]: [c["code"] for c in e["caveats"]]
        for e in ferocal.json("compare")["effects"]
    }
    assert "unknown-visits" not in found["b"]
