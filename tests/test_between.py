"""Effects of effects: whether a change is as large here as there."""

from __future__ import annotations

import math
import re
import shutil
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from conftest import Ferocal
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.between import Pair, Side, compare_effects
from ferocal.analysis.inference.effects import Setting
from simulation import make_readings

STUDY = """
[study]
question = "Is the native player faster than the translated one, with either browser?"
margin = "2 %"
rounds = 5
runs = 1
{benches}
[factor.player.level.translated]
environment = {{ PLAYER = "159" }}
[factor.player.level.native]
environment = {{ PLAYER = "100" }}
[factor.browser.level.pelican]
environment = {{ BROWSER = "0" }}
[factor.browser.level.wren]
environment = {{ BROWSER = "1" }}
[workload.kiosk-page]
shell = true
command = '''
translated=$((PLAYER > 100))
echo took $((PLAYER * 1000 + translated * BROWSER * 21000 + FEROCAL_VISIT * 7 % 5 * 100))'''
[workload.kiosk-page.metric.time]
unit = "ms"
better = "lower"
source = {{ pattern = "took ([0-9]+)" }}
[workload.kiosk-page.metric.rate]
from = "1000 / time"
unit = "1/s"
better = "higher"
role = "detail"
"""


@pytest.fixture(scope="module")
def browsers(tmp_path_factory: pytest.TempPathFactory) -> Ferocal:
    """A study of which nothing is changed any more."""
    ferocal = Ferocal(tmp_path_factory.mktemp("browsers"))
    ferocal.write(STUDY.format(benches=""))
    ferocal.quick("measure")
    return ferocal


def test_a_gain_that_is_larger_with_one_browser_is_told_in_words(browsers: Ferocal) -> None:
    answer = browsers.json("compare", "--between", "browser")
    (found,) = answer["differences"]
    assert (found["first_place"], found["second_place"]) == ("pelican", "wren")
    assert found["verdict"] == "better"
    # 1.59 and 1.80 times as fast: the speed-up is 12 % higher, in time that is less.
    ratio = (1 + found["second"]) / (1 + found["first_change"]) - 1
    assert found["change"] == pytest.approx(ratio) == pytest.approx(159 / 180 - 1, abs=0.01)
    assert found["low"] < found["change"] < found["high"]
    text = " ".join(browsers.quick("compare", "--between", "browser").split())
    pattern = r"native is 1.[56]\d times as fast on kiosk-page with pelican, 1.\d+ times with wren"
    assert re.search(f"{pattern}: the speed-up is 1[234] % higher, the gain [56]. → [78]. %", text)
    # Metrics of opposite directions are compared by how many times as fast.
    pair = browsers.json(
        "compare", "--between", "workload", "--metric", "time", "--metric", "rate",
        "--configuration", "native+pelican",
    )["differences"]  # fmt: skip
    assert [d["change"] for d in pair] == pytest.approx([0.0], abs=1e-9)


def test_two_studies_are_compared_as_independent_ones(browsers: Ferocal, tmp_path: Path) -> None:
    other = tmp_path / "other"
    shutil.copytree(browsers.directory, other)
    answer = browsers.json("compare", "--between", "study", str(other))
    effects = {
        (e["configuration"], e["metric"]): e
        for e in browsers.json("compare")["effects"]
        if e["metric"] == "time"
    }
    assert len(answer["differences"]) == 3
    for found in answer["differences"]:
        assert found["change"] == pytest.approx(0, abs=1e-12)
        own = effects[found["configuration"], "time"]
        half = (math.log1p(own["high"]) - math.log1p(own["low"])) / 2
        error = half / stats.t.ppf(0.975, own["degrees"]) * math.sqrt(2)
        reach = error * stats.t.ppf(0.975, 2 * own["degrees"])
        assert math.log1p(found["high"]) == pytest.approx(reach, rel=1e-6)
    assert "needs the directory" in browsers.refusal("compare", "--between", "study")
    assert "needs the directory" in browsers.refusal("compare", str(other))


def test_what_cannot_be_compared_is_said(browsers: Ferocal) -> None:
    assert 'did you mean "browser"?' in browsers.refusal("compare", "--between", "browsr")
    assert "on two benches" in browsers.refusal("compare", "--between", "bench")
    assert "no workload with `sizes`" in browsers.refusal("compare", "--between", "size")
    said = browsers.refusal("compare", "--between", "browser", "--gate", "worse")
    assert "--between excludes" in said


def test_benches_are_compared_with_each_other(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(benches="[bench.dome-node]\n[bench.lobby-kiosk]"))
    rows = ["bench,configuration,round,workload,metric,unit,value"]
    for bench, gain in (("dome-node", 1.2), ("lobby-kiosk", 1.5)):
        for r in range(1, 6):
            for name, value in (("translated+pelican", 100 * gain), ("native+pelican", 100.0)):
                rows.append(f"{bench},{name},{r},kiosk-page,time,ms,{value * (1 + r / 5000)}")
    (ferocal.directory / "in.csv").write_text("\n".join(rows), encoding="utf-8")
    ferocal.quick("load", "in.csv")
    (found,) = ferocal.json("compare", "--between", "bench")["differences"]
    assert found["change"] == pytest.approx(1.2 / 1.5 - 1, abs=1e-3)
    assert (found["bench"], found["second_place"]) == ("dome-node", "lobby-kiosk")


def test_ratios_of_ratios_cover_and_drop_what_a_round_has_in_common() -> None:
    rng = np.random.default_rng(6)
    series = [Series(name, "rate", "fps", "higher", 0.02) for name in ("flight", "export")]
    covered, widths = [], []
    for _ in range(300):
        truth = rng.normal(0, 0.05)
        rows = []
        for r in range(6):
            common = rng.normal(0, 0.2)  # a round that disturbs everything
            for c in range(2):
                for s in range(2):
                    log = 4 + common + c * 0.1 + c * s * truth + rng.normal(0, 0.01)
                    rows.append((s, c, r, 2 * r + c, math.exp(log)))
        readings = make_readings(series, ("base", "new"), *zip(*rows, strict=True))
        pair = Pair(Side(0, 0, 1, 0), Side(1, 0, 1, 0), "flight", "export")
        (found,) = compare_effects(readings, [pair], Setting())
        covered.append(found.estimate.shift.low <= truth <= found.estimate.shift.high)
        widths.append(found.estimate.shift.high - found.estimate.shift.low)
    assert 0.92 < np.mean(covered) < 0.98
    assert np.mean(widths) < 0.06
