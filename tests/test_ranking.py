"""Rankings, references, the overview chart, and studies made of several."""

from __future__ import annotations

import itertools
import json
import math
import re
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.multitest import multipletests

from conftest import Ferocal
from ferocal.analysis.caveats.table import CAVEATS
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.analysis.rank.lineup import Contestant
from ferocal.analysis.rank.sensitivity import find_tippings, orders_without
from ferocal.analysis.rank.standings import rank_contestants
from simulation import make_readings

SERIES = (Series("export", "duration", "s", "lower", 0.01, role="primary"),)
NAMES = ("oxbow-s", "oxbow-m", "tarn-4", "tarn-8")


def simulated(
    rng: np.random.Generator,
    levels: Sequence[float],
    rounds: int = 6,
    missing: bool = False,
    whole: int = 0,
) -> Any:
    """Readings in rounds, the levels on the log scale; after some whole rounds half is missing."""
    rows = []
    for k, (n, c) in enumerate(itertools.product(range(1, rounds + 1), range(len(levels)))):
        if missing and n > whole and (n + c) % 2:
            continue
        common = 0.05 * math.sin(n)
        rows.append((0, c, n, k, math.exp(4 + levels[c] + common + rng.normal(0, 0.01))))
    return make_readings(SERIES, NAMES[: len(levels)], *zip(*rows, strict=True))


def ranked(readings: Any, **settings: Any) -> Any:
    contestants = [Contestant(0, c) for c in range(len(readings.configurations))]
    return rank_contestants(readings, 0, contestants, Setting(**settings))


@pytest.mark.parametrize("seed", range(4))
def test_pairs_are_those_of_a_comparison_adjusted_for_their_number(seed: int) -> None:
    """Paired t of SciPy and Holm of statsmodels decide."""
    levels = [0.0, 0.012, 0.02, 0.05]
    readings = simulated(np.random.default_rng(seed), levels)
    found = ranked(readings)
    logs = np.log(readings.value).reshape(6, 4)
    names = [NAMES.index(s.configuration) for s in found.standings]
    assert names == list(np.argsort(logs.mean(axis=0)))  # the shortest first
    pairs = [(a, b) for a in range(4) for b in range(4) if a < b]
    tests = [stats.ttest_rel(logs[:, names[b]], logs[:, names[a]]) for a, b in pairs]
    adjusted = multipletests([t.pvalue for t in tests], method="holm")[1]
    for (a, b), test, p in zip(pairs, tests, adjusted, strict=True):
        ends = test.confidence_interval(0.95)
        verdict = found.verdicts[a, b]
        if -math.log1p(0.01) < ends.low and ends.high < math.log1p(0.01):
            assert verdict is Verdict.EQUIVALENT
        elif p < 0.05:
            assert verdict is (Verdict.BETTER if ends.low > 0 else Verdict.WORSE)
        else:
            assert verdict is Verdict.INCONCLUSIVE
    check_ranks(found)


def check_ranks(found: Any) -> None:
    """A rank is between one more than are better, and all but those that are worse."""
    count = len(found.standings)
    for place, standing in enumerate(found.standings):
        own = [found.verdicts[place, other] for other in range(count) if other != place]
        assert standing.rank_best == 1 + own.count(Verdict.WORSE)
        assert standing.rank_worst == count - own.count(Verdict.BETTER)
        assert standing.rank_best <= place + 1 <= standing.rank_worst
    chances = [s.chance for s in found.standings]
    if not math.isnan(chances[0]):
        assert sum(chances) == pytest.approx(1) and chances[0] == max(chances)


@pytest.mark.parametrize("whole", [0, 2, 3])
def test_rounds_that_some_missed_are_used_by_way_of_others(whole: int) -> None:
    """Where hardly any round has all, those that pair still take out what a round shifts."""
    readings = simulated(
        np.random.default_rng(1), [0.0, 0.0, 0.3, 0.3], rounds=8, missing=True, whole=whole
    )
    found = ranked(readings)
    tops = {s.configuration for s in found.standings if s.rank_best == 1}
    assert tops == {"oxbow-s", "oxbow-m"}
    assert {(s.rank_best, s.rank_worst) for s in found.standings} == {(1, 2), (3, 4)}
    visits = 8 - (8 - whole) // 2 - (8 - whole) % 2
    assert all(s.visits >= visits for s in found.standings)
    assert Method.PAIRED in found.sources and Method.NONE not in found.sources
    check_ranks(found)


@pytest.mark.parametrize("noisy", [1.0, 8.0])
def test_nobody_is_ordered_who_is_equal(noisy: float) -> None:
    """Also where one of them varies by far more than the others do, and visits are missing."""
    rng, wrong, studies = np.random.default_rng(5), 0, 120
    for _ in range(studies):
        rows = [
            (0, c, n, 4 * n + c, math.exp(4 + 0.05 * shift + 0.01 * width * rng.normal()))
            for n in range(1, 7)
            for shift in (rng.normal(),)
            for c, width in enumerate((1.0, 1.0, 1.0, noisy))
            if rng.random() > 0.1
        ]
        found = ranked(make_readings(SERIES, NAMES, *zip(*rows, strict=True)))
        wrong += any(v in CHANGED for v in found.verdicts.values())
        check_ranks(found)
    assert wrong <= 14  # 6 expected of 120 at most; more than 14 in one case of a thousand


def test_the_chance_of_being_first_is_what_comes_true() -> None:
    rng, said, right = np.random.default_rng(3), [], []
    for _ in range(200):
        true = rng.normal(0, 0.006, 4)
        found = ranked(simulated(rng, true.tolist(), rounds=5))
        if not math.isnan(found.standings[0].chance):
            said.append(found.standings[0].chance)
            right.append(NAMES[int(true.argmin())] == found.standings[0].configuration)
    assert len(said) > 190 and np.mean(said) == pytest.approx(np.mean(right), abs=0.09)
    readings = simulated(rng, [0.0, 0.004], rounds=5)
    assert math.isnan(
        ranked(readings).standings[0].chance
    )  # two do not tell how far levels lie apart


def test_equal_readings_without_a_step_rank_nobody() -> None:
    rows = [(0, c, n, 2 * n + c, math.pi * (1 + c)) for n in range(1, 5) for c in range(2)]
    found = ranked(make_readings(SERIES, NAMES[:2], *zip(*rows, strict=True)))
    assert set(found.verdicts.values()) <= {Verdict.INCONCLUSIVE, Verdict.SEEN_ONCE}
    assert all(math.isnan(s.chance) for s in found.standings)


@given(st.integers(0, 10_000), st.integers(2, 6), st.integers(2, 5))
@settings(max_examples=60, deadline=None)
def test_the_lead_changes_at_the_weight_that_is_told(seed: int, count: int, parts: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.normal(0, 1, (count, parts))
    weights = {f"p{n}": [(n, float(w))] for n, w in enumerate(rng.uniform(0.2, 3, parts))}

    def leader(name: str, share: float) -> int:
        others = {n: w for n, [(_, w)] in weights.items() if n != name}
        total = sum(others.values())
        index = share * values[:, int(name[1:])]
        index += sum((1 - share) * w / total * values[:, int(n[1:])] for n, w in others.items())
        return int(index.argmax())

    total = sum(w for [(_, w)] in weights.values())
    found = find_tippings(values, weights)
    for tipping in found:
        side = 1e-6 if tipping.above else -1e-6
        now = leader(tipping.name, tipping.now)
        assert leader(tipping.name, tipping.share - side) == now
        assert leader(tipping.name, tipping.share + side) == tipping.leader != now
    # Where nothing is told, no weight that could be written as a per cent changes the lead.
    for name, [(_, w)] in weights.items():
        told = {t.above for t in found if t.name == name}
        for above, share in ((True, 0.995 - 1e-9), (False, 0.005 + 1e-9)):
            if above not in told:
                assert leader(name, share) == leader(name, w / total)
    for without in orders_without(values, weights):
        assert without.order[0] == leader(without.name, 0.0)


def test_the_hosts_of_the_demo_are_ranked_by_what_they_are_worth(
    demo: tuple[Ferocal, str],
) -> None:
    ferocal = Ferocal(demo[0].directory / "hosts")
    document = ferocal.json("rank")
    whole = [r for r in document["ranking"] if r["workload"] is None and r["per"] is None]
    assert whole[0]["configuration"] == "tarn-8"
    assert whole[0]["chance_of_first"] > 0.99 and (
        whole[0]["rank_best"],
        whole[0]["rank_worst"],
    ) == (1, 1)
    assert {r["configuration"] for r in whole if r["rank_best"] == 2} == {"oxbow-m", "oxbow-l"}
    assert {(r["low"], r["high"]) for r in whole if r["configuration"] == "oxbow-s"} == {(1.0, 1.0)}
    (change,) = [c for c in document["lead_changes"] if c["part"] == "archive-copy"]
    assert change["above"] and change["leader"] in ("oxbow-m", "oxbow-l")
    assert document["weights"]["bench"]["archive-copy"] == pytest.approx(1 / 3)
    text = " ".join(ferocal.quick("rank").split())
    assert "unless archive-copy weighs more than" in text and "per price" in text
    assert "tarn-8 is 1st in catalogue-query but 3rd of 5 in archive-copy" in text
    per = ferocal.json("rank", "--per", "price", "--metric", "duration")["ranking"]
    seconds = {r["configuration"]: r["value"]
               for r in ferocal.json("rank", "--metric", "duration")["ranking"]
               if r["per"] is None}  # fmt: skip
    prices = {"oxbow-s": 0.11, "oxbow-m": 0.22, "oxbow-l": 0.31,
              "tarn-4": 0.18 * 0.92, "tarn-8": 0.34 * 0.92}  # fmt: skip
    for row in per:
        name = row["configuration"]
        assert row["unit"] == "EUR"
        assert row["value"] == pytest.approx(seconds[name] * prices[name] / 3600)
    archive = ferocal.json("rank", "--for", "archive")["ranking"]
    assert archive[0]["metric"] == "archive" and archive[0]["configuration"] == "oxbow-l"
    tally = {t["name"]: t for t in document["tally"]}
    assert sum(t["wins"] for t in tally.values()) == sum(t["losses"] for t in tally.values())
    metric = ferocal.json("rank", "--per", "duration")["ranking"]
    assert metric[0]["configuration"] == "tarn-8" and metric[0]["per"] == "duration"
    assert 'no preference "archiv" in this study; did you mean "archive"' in ferocal.refusal(
        "rank", "--for", "archiv"
    )
    assert 'no quantity "watts"' in ferocal.refusal("rank", "--per", "watts")


def test_currencies_need_a_rate_and_quantities_a_declaration(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    source = demo[0].directory / "hosts"
    for name in ("study.toml", "ledger.sqlite"):
        shutil.copy(source / name, tmp_path / name)
    ferocal = Ferocal(tmp_path)
    text = (tmp_path / "study.toml").read_text()
    ferocal.write(text.replace('USD = "0.92 EUR"', ""))
    refusal = ferocal.refusal("rank", "--per", "price")
    assert 'price is in EUR/h and in USD/h: declare a rate, such as [rate] USD = "… EUR"' in refusal
    assert "per price" not in ferocal.quick("rank")
    ferocal.write(text.replace('price = "0.18 USD/h"', 'price = "4.32 USD/d"'))
    day = ferocal.json("rank", "--per", "price", "--metric", "duration")["ranking"]
    ferocal.write(text)
    assert day == ferocal.json("rank", "--per", "price", "--metric", "duration")["ranking"]
    ferocal.write(text.replace('cores = 4, price = "0.18', 'price = "0.18'))
    assert "cores is not declared for tarn-4 on bench" in ferocal.refusal("rank", "--per", "cores")
    # A group has the weight of its workloads together, shared among them.
    grouped = text.replace("archive-copy = 3, catalogue-query = 1", "rest = 2, archive-copy = 2")
    for name in ("catalogue-query", "show-export"):
        grouped = grouped.replace(f"[workload.{name}]", f'[workload.{name}]\ngroup = "rest"')
    ferocal.write(grouped.replace(", show-export = 1 }", " }"))
    ranking = ferocal.json("rank", "--for", "archive")["ranking"]
    whole = {r["configuration"]: r["value"] for r in ranking
             if r["workload"] is None and r["per"] is None}  # fmt: skip
    means = {(e["workload"], e["configuration"]): 1 + e["change"]
             for e in ferocal.json("compare")["effects"]}  # fmt: skip
    for name, value in whole.items():
        if name != "oxbow-s":
            rest = means["catalogue-query", name] / means["show-export", name]
            expected = rest**0.25 * means["archive-copy", name] ** 0.5
            assert value == pytest.approx(expected)
    ferocal.write(text.replace("{ archive-copy = 3", "{ archive = 3"))
    assert 'no workload or group "archive"' in ferocal.refusal("rank")
    ferocal.write(text.replace("archive-copy = 3, catalogue-query = 1, show-export = 1",
                               "archive-copy = 0"))  # fmt: skip
    assert "at least one must be above zero" in ferocal.refusal("rank")


def test_where_we_stand_among_references(demo: tuple[Ferocal, str]) -> None:
    ferocal = Ferocal(demo[0].directory / "kiosk")
    document = ferocal.json("reference", "--configuration", "fw-1.11", "--bench", "foyer")
    (standings,) = document["standings"]
    assert standings["count"] == 5 and document["total"] == 4
    values = [entry["value"] for entry in standings["results"]]
    assert values == sorted(values, reverse=True)
    (ours,) = [entry for entry in standings["results"] if entry["ours"]]
    others = [entry for entry in standings["results"] if not entry["ours"]]
    better = [o for o in others if (o["low"] or -math.inf) > ours["high"]]
    maybe = [o for o in others if (o["high"] if o["high"] is not None else math.inf) > ours["low"]]
    assert (ours["rank_best"], ours["rank_worst"]) == (1 + len(better), 1 + len(maybe))
    text = ferocal.quick("reference", "--search", "herald")
    assert "Thistle A" in text and "Larkspur 2" not in text and "no verdict uses it" in text
    # References are in no verdict: effects are the same with and without them.
    assert "Larkspur" not in json.dumps(ferocal.json("compare"))


def test_references_are_checked_and_kept_all_or_none(ferocal: Ferocal) -> None:
    ferocal.write(SMALL.format(question="Which is faster?", factor="host", bench=""))
    add = ("reference", "add", "--device", "Marram", "--metric", "copy", "--source", "a leaflet")
    ferocal.quick("measure")
    assert "no published results yet" in ferocal.refusal("reference")
    assert "--value: is missing" in ferocal.refusal(*add)
    assert 'cannot be converted to "MB/s"' in ferocal.refusal(*add, "--value", "3", "--unit", "s")
    assert "did you mean" in ferocal.refusal(*add[:4], "--metric", "cpy", *add[6:], "--value", "3")
    assert "--date" in ferocal.refusal(*add, "--value", "3", "--date", "yesterday")
    assert "give a FILE, or" in ferocal.refusal("reference", "add")
    file = ferocal.directory / "refs.csv"
    head = "device,metric,value,source\n"
    for row, message in (
        ("A,copy,NaN,x", 'line 3, value: "NaN" is not a number'),
        ("A,copy,-inf,x", "line 3, value"),
        (",copy,3,x", "line 3, device: is missing"),
        ("A,copy,8..3,x", "does not go from low to high"),
        ("B,copy,9,x", "the same device, metric and source occur in an earlier row"),
    ):
        file.write_text(f"{head}B,copy,4,x\n{row}\n")
        assert message in ferocal.refusal("reference", "add", "refs.csv")
    file.write_text("device,value,source\nA,3,x")
    assert 'no column "metric"' in ferocal.refusal("reference", "add", "refs.csv")
    file.write_bytes(b"")
    assert "is empty" in ferocal.refusal("reference", "add", "refs.csv")
    assert "no published results yet" in ferocal.refusal("reference")
    rows = [f"Device {n},copy,{100 + n},a list" for n in range(200)]
    file.write_text(head + "\n".join(rows))
    ferocal.quick("reference", "add", "refs.csv")
    text = ferocal.quick("reference", "--configuration", "b")
    assert len(text.splitlines()) < 40 and "of 201" in text
    assert "Device 150" in ferocal.quick("reference", "--search", "device 150")
    ferocal.quick(*add, "--value", "7")
    ferocal.quick(*add, "--value", "8")  # the latest counts
    found = ferocal.json("reference")["standings"][0]["results"]
    assert [entry["value"] for entry in found if entry["name"] == "Marram"] == [8.0]


def test_the_chart_marks_the_best_of_each_row(demo: tuple[Ferocal, str]) -> None:
    ferocal = demo[0]
    text = ferocal("table", COLUMNS="200").stdout
    row = next(line for line in text.splitlines() if "frame rate" in line)
    assert row.rstrip().endswith("*")
    (query,) = [line for line in text.splitlines() if "catalogue-query" in line]
    assert re.search(r"1837 ±\S+ % +\* +\d+ ±\S+ % +≈", query)
    text = ferocal.quick("chart", "-o", "chart.svg")
    assert "no best is marked where readings are bounds: starfield-soak onset of throttling" in text
    drawn = (ferocal.directory / "chart.svg").read_text()
    assert "better always to the right" in drawn and "r64+vulkan" in drawn
    kiosk = Ferocal(ferocal.directory / "kiosk")
    assert "cannot be told apart" in kiosk.refusal("chart", "-o", "c.svg")
    chosen = [f"--configuration=fw-1.{n:02d}" for n in (5, 6, 11)]
    text = kiosk.quick("chart", *chosen, "--bench", "foyer", "-o", "c.svg")
    assert "published results have no runs behind them" in text
    assert "from elsewhere" in (kiosk.directory / "c.svg").read_text()


SMALL = """
[study]
question = "{question}"
margin = "2 %"
rounds = 3
runs = 1
{bench}
[factor.{factor}.level.a]
environment = {{ SPEED = "100" }}
[factor.{factor}.level.b]
environment = {{ SPEED = "110" }}
[workload.copy]
shell = true
command = '''echo $((SPEED * 10 + FEROCAL_VISIT * 7 % 5))'''
[workload.copy.metric.rate]
unit = "MB/s"
better = "higher"
source = {{ pattern = "([0-9]+)" }}
"""


@pytest.fixture(scope="module")
def seasons(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Studies of one workload, on benches that are called alike; one varies something else."""
    place = tmp_path_factory.mktemp("seasons")
    for name, factor in (("spring", "host"), ("autumn", "host"), ("winter", "machine")):
        (place / name).mkdir()
        ferocal = Ferocal(place / name)
        text = SMALL.format(question=name, factor=factor, bench="[bench.node]")
        ferocal.write(text.replace("SPEED", "PACE") if name == "winter" else text)
        ferocal.quick("measure")
    return place


def test_studies_are_combined_once_and_in_whole(seasons: Path, tmp_path: Path) -> None:
    ferocal = Ferocal(seasons)
    shown = ferocal.quick("combine", "spring", "autumn", "-o", "year")
    assert "nothing was written" in shown and not (seasons / "year").exists()
    mapped = ("--map", "autumn:bench.node=node-2")
    text = ferocal.quick("combine", "spring", "autumn", "-o", "year", *mapped, "--yes")
    assert re.search(r"autumn +bench +node +node-2 +new, renamed", text)
    assert "spring: 6 runs of 6 visits" in text and "autumn: 6 runs of 6 visits" in text
    year = Ferocal(seasons / "year")
    effects = year.json("compare")["effects"]
    assert {e["bench"] for e in effects} == {"node", "node-2"}
    for name, bench in (("spring", "node"), ("autumn", "node-2")):
        (before,) = Ferocal(seasons / name).json("compare")["effects"]
        (after,) = [e for e in effects if e["bench"] == bench]
        assert after["change"] == before["change"] and after["rounds"] == 3
        # Tests share their level over benches; what is seen without a test is the same.
        seen = [
            [c["code"] for c in effect["caveats"] if not CAVEATS[c["code"]].statistical]
            for effect in (before, after)
        ]
        assert seen[0] == seen[1]
    assert year.json("compare", "--across", "benches")["leads"]
    assert "already exists" in ferocal.refusal(
        "combine", "spring", "autumn", "-o", "year", *mapped, "--yes"
    )
    # As one bench, the rounds of the second come after those of the first; a copy adds nothing.
    shutil.copytree(seasons / "spring", seasons / "copy")
    text = ferocal.quick("combine", "spring", "autumn", "copy", "-o", "one", "--yes")
    assert "copy: 0 runs of 0 visits; 6 were there already" in text
    (effect,) = Ferocal(seasons / "one").json("compare")["effects"]
    assert effect["rounds"] == 6 and effect["runs"] == 12
    assert len(Ferocal(seasons / "spring").json("runs")["run_list"]) == 6
    given = ("--map", "winter:factor.host=a", "--map", "spring:factor.machine=a")
    names = ("--map", "winter:configuration.b=quick", "--map", "winter:workload.copy=copy-pace")
    ferocal.quick("combine", "spring", "winter", "-o", "both", *given, *names, "--yes")
    effects = Ferocal(seasons / "both").json("compare")["effects"]
    assert {(e["configuration"], e["workload"]) for e in effects} == {
        ("b", "copy"), ("quick", "copy-pace")
    }  # fmt: skip
    # All visits have the levels that the combined study says, and nothing was defined otherwise.
    assert "definition-changed" not in {c["code"] for e in effects for c in e["caveats"]}


def test_what_contradicts_is_told_before_anything_is_written(seasons: Path, tmp_path: Path) -> None:
    for name in ("spring", "autumn"):
        shutil.copytree(seasons / name, tmp_path / name)
    ferocal, autumn = Ferocal(tmp_path), Ferocal(tmp_path / "autumn")
    text = (tmp_path / "autumn" / "study.toml").read_text()
    combine = ("combine", "spring", "autumn", "-o", "year")
    autumn.write(text.replace('unit = "MB/s"', 'unit = "GB/s"'))
    refusal = ferocal.refusal(*combine)
    assert "copy rate has unit 'GB/s', and 'MB/s' there" in refusal
    assert "--map autumn:workload.copy=NAME" in refusal
    autumn.write(text.replace("factor.host", "factor.machine"))
    refusal = ferocal.refusal(*combine)
    assert "autumn: has no factor host: say which level it had" in refusal
    given = ("--map", "autumn:factor.host=a", "--map", "spring:factor.machine=a")
    named = ("--map", "autumn:configuration.a=x", "--map", "autumn:configuration.b=y")
    refusal = ferocal.refusal(*combine, *given, *named, "--yes")
    assert "SPEED: contradicts host=b, which sets '110'" in refusal and ".combining" not in refusal
    assert sorted(path.name for path in tmp_path.iterdir()) == ["autumn", "spring"]
    machines = text.replace("factor.host", "factor.machine")
    autumn.write(re.sub("environment = .*", 'note = "as it is"', machines))
    ferocal.quick(*combine, *given, *named, "--yes")
    names = {r["configuration"] for r in Ferocal(tmp_path / "year").json("runs")["run_list"]}
    assert names == {"a", "b", "y"}  # autumn's a is spring's a, with both levels
    autumn.write(text.replace("[bench.node]", '[bench.node]\nfacts = { screen = "9" }'))
    spring = Ferocal(tmp_path / "spring")
    own = (tmp_path / "spring" / "study.toml").read_text()
    spring.write(own.replace("[bench.node]", '[bench.node]\nfacts = { screen = "8" }'))
    assert "another machine needs another name" in ferocal.refusal(*combine)
    assert "write DIR:KIND.OLD=NEW" in ferocal.refusal(*combine, "--map", "autumn=x")
    assert 'has no bench "nod"' in ferocal.refusal(*combine, "--map", "autumn:bench.nod=x")
    assert "not one of the studies" in ferocal.refusal(*combine, "--map", "winter:bench.node=x")
    assert "at least two studies" in ferocal.refusal("combine", "spring", "-o", "year")
