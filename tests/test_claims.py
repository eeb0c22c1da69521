"""Claims: supported, refuted, undecided, and kept as they were when first seen."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import integrate, stats

from conftest import Ferocal
from ferocal.analysis.inference.claims import ClaimTest, ClaimVerdict, judge_claims
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.weights import Arm
from kept_studies import restore
from simulation import simulate

STUDY = """
[study]
question = "Does firmware fw-1.11 slow the exports?"
margin = "2 %"
rounds = 5
runs = 2
control = true
[factor.firmware.level."fw-1.02"]
environment = {{ COST = "20000" }}
[factor.firmware.level."fw-1.11"]
environment = {{ COST = "20800" }}
[workload.show-export]
shell = true
command = 'echo took $((COST + (FEROCAL_VISIT * 7 + FEROCAL_RUN * 3) % 5 * 20)), used 41.5'
[workload.show-export.metric.duration]
unit = "ms"
better = "lower"
source = {{ pattern = "took ([0-9]+)" }}
[workload.show-export.metric.heat]
unit = "°C"
better = "lower"
source = {{ pattern = "used ([0-9.]+)" }}
resolution = 0.1
[workload.query]
shell = true
command = 'echo took $((2000 + FEROCAL_VISIT * 7 % 5))'
[workload.query.metric.time]
unit = "ms"
better = "lower"
source = {{ pattern = "took ([0-9]+)" }}
{claims}
"""


def claim(name: str, bound: str, metric: str = "show-export duration", more: str = "") -> str:
    return f"""
[claim.{name}]
says = "It is so."
metric = "{metric}"
configuration = "fw-1.11"
{bound}
{more}
"""


def judged(ferocal: Ferocal) -> dict[str, Any]:
    return {c["name"]: c for c in ferocal.json("claims")["claims"]}


def test_every_kind_of_claim_has_its_verdict_and_what_would_decide_it(ferocal: Ferocal) -> None:
    claims = [
        claim("vendor-loss", 'within = "noise"', more='source = "notes"\ndate = 2026-05-01'),
        claim("loss", 'at-least = "3 %"'),
        claim("small-loss", 'at-most = "1 %"'),
        claim("range", 'between = ["3.5 %", "4.5 %"]'),
        claim("near", 'at-most = "4 %"'),
        claim("seconds", 'at-most = "21000 ms"'),
        claim("times", 'at-most = "1.1 times"'),
        claim("ratio", "at-least = 10.2", more='ratio-to = "query time"'),
        claim("warmer", 'within = "0.5 °C"', "show-export heat", 'of = "change"'),
        claim("whole", 'at-least = "-3 %"', "index"),
    ]
    ferocal.write(STUDY.format(claims="\n".join(claims)))
    before = judged(ferocal)
    assert {c["verdict"] for c in before.values()} == {"undecided"}
    assert all(c["written_before"] for c in before.values())
    ferocal.quick("measure")
    found = judged(ferocal)
    assert {name: c["verdict"] for name, c in found.items()} == {
        "vendor-loss": "refuted", "loss": "supported", "small-loss": "refuted",
        "range": "supported", "near": "undecided", "seconds": "supported", "times": "supported",
        "ratio": "supported", "warmer": "supported", "whole": "supported",
    }  # fmt: skip
    assert all(c["written_before"] is True for c in found.values())
    assert found["vendor-loss"]["source"] == "notes"
    assert found["vendor-loss"]["date"] == "2026-05-01"
    # One-sided bounds are those of 95 % to one side, ends of a range those of 95 % to both.
    effect = ferocal.effect("--configuration", "fw-1.11", "--metric", "duration")
    error = (math.log1p(effect["high"]) - math.log1p(effect["change"])) / stats.t.ppf(0.975, 4)
    high = math.log1p(effect["change"]) + stats.t.ppf(0.95, 4) * error
    assert math.log1p(found["small-loss"]["high"]) == pytest.approx(high)
    assert found["range"]["high"] == pytest.approx(effect["high"])
    assert found["seconds"]["kind"] == "value" and 20800 < found["seconds"]["change"] < 20900
    assert found["ratio"]["kind"] == "ratio" and 10.3 < found["ratio"]["change"] < 10.5
    assert found["near"]["decide"] is not None
    text = ferocal.quick("claims")
    assert text.index("vendor-loss") < text.index("near") < text.index("range")
    assert "all were recorded before the first reading" in text
    done = ferocal("claims", "--gate", status=3)
    assert "gate refuted: small-loss is refuted" in done.stderr and "near" not in done.stderr
    assert (
        "gate supported: near is undecided"
        in ferocal("claims", "--gate", "supported", status=3).stderr
    )


def test_what_is_written_or_changed_afterwards_says_so_for_ever(ferocal: Ferocal) -> None:
    early = claim("early", 'at-most = "1 %"')
    ferocal.write(STUDY.format(claims=early))
    ferocal.quick("measure", "--rounds", "2")  # keeps the claim before its first run
    assert judged(ferocal)["early"]["written_before"] is True
    ferocal.write(
        STUDY.format(claims=claim("early", 'at-most = "6 %"') + claim("late", 'at-least = "1 %"'))
    )
    ferocal.quick("claims")
    ferocal.write(STUDY.format(claims=claim("early", 'at-most = "5 %"')))
    found = judged(ferocal)["early"]
    assert found["written_before"] is False
    assert [h["claim"]["at-most"] for h in found["history"]] == ["1 %", "6 %"]
    text = " ".join(ferocal.quick("claims").split())
    assert "early was stated or changed after the first reading" in text
    assert "early was changed after" in text and "at-most 1 %" in text
    assert 'late ("It is so.", ' in text and "has been withdrawn" in text
    # As it was at first, it is what was kept before measuring; that it was changed stays.
    ferocal.write(STUDY.format(claims=early))
    found = judged(ferocal)["early"]
    assert found["written_before"] is True and len(found["history"]) == 2


def test_of_readings_without_a_date_nobody_knows_what_came_first(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(claims=claim("told", 'at-least = "41 °C"', "show-export heat")))
    ferocal.quick(
        "enter",
        "show-export",
        "--configuration",
        "fw-1.11",
        "--metric",
        "heat",
        ">42",
        "--visit",
        "a",
    )
    found = judged(ferocal)["told"]
    # Whatever a bound allows is above what was claimed.
    assert found["verdict"] == "supported" and found["written_before"] is None
    assert found["low"] == pytest.approx(42) and found["high"] is None
    assert "unknown whether" in " ".join(ferocal.quick("claims").split())


def test_a_claim_that_comes_after_readings_without_a_date_is_late(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(claims=""))
    place = ("--configuration", "fw-1.11", "--metric", "heat")
    ferocal.quick("enter", "show-export", *place, "42")
    ferocal.write(STUDY.format(claims=claim("late", 'at-least = "41 °C"', "show-export heat")))
    assert judged(ferocal)["late"]["written_before"] is False


def test_a_claim_is_not_older_than_readings_that_were_taken_long_ago(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(claims=claim("late", 'at-least = "41 °C"', "show-export heat")))
    ferocal.quick("claims")  # kept while nothing is in the ledger yet
    head = "configuration,workload,metric,started_at,value"
    row = "fw-1.11,show-export,heat,2026-01-05T10:00:00Z,42"
    (ferocal.directory / "in.csv").write_text(f"{head}\n{row}\n", encoding="utf-8")
    ferocal.quick("load", "in.csv")
    assert judged(ferocal)["late"]["written_before"] is False


def chance_within(mean: float, error: float, band: float) -> float:
    """How probably a mean, with five degrees of freedom, is within a band that has ten."""

    def inside(square: float) -> float:
        edge = band * math.sqrt(10 / square)
        within = stats.t.cdf((edge - mean) / error, 5) - stats.t.cdf((-edge - mean) / error, 5)
        return float(within * stats.chi2.pdf(square, 10))

    return float(integrate.quad(inside, 0, 80)[0])


def test_p_values_of_one_end_and_of_two() -> None:
    readings = simulate(np.random.default_rng(5), change=0.1, rounds=6)
    weights = ((Arm(0, 0, 1), 1.0), (Arm(0, 0, 0), -1.0))
    (effect,) = estimate_effects(readings, "base")
    error = effect.shift.sd / math.sqrt(6)
    ends = (-math.log1p(0.02), math.log1p(0.02))
    for test, times in (
        (ClaimTest(weights, -math.inf, ends[1]), 1), (ClaimTest(weights, *ends), 2),
        (ClaimTest(weights, -math.inf, math.inf, noise=True), 2),
    ):  # fmt: skip
        (found,) = judge_claims(readings, [test], Setting())
        # What a run varies by is known from the visits themselves.
        assert test.noise or found.ends[1] == ends[1]
        beyond = effect.shift.mean - found.ends[1]
        expected = times * (
            chance_within(effect.shift.mean, error, found.ends[1]) if test.noise
            else stats.t.sf(beyond / error, 5)
        )  # fmt: skip
        reach = stats.t.ppf(1 - 0.05 / times, 5) * error
        assert found.high - found.mean == pytest.approx(reach)
        assert found.verdict is ClaimVerdict.REFUTED
        assert found.p_adjusted == pytest.approx(expected, rel=2e-3)


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        (claim("x", ""), "claim.x: needs one of at-most"),
        (claim("x", "at-least = -1", more='ratio-to = "query time"'), "its bound must be"),
        (claim("x", 'at-most = "1 %"\nat-least = "0 %"'), "it has at-most and at-least"),
        (claim("x", 'at-most = "quick"'), "claim.x.at-most: is not a bound"),
        (claim("x", 'at-most = "1e999 %"'), "is too large"),
        (claim("x", 'at-most = "1 kg"'), 'must be in "ms" for show-export duration'),
        (
            claim("x", 'at-most = "1 %"', "show-export durtion"),
            'did you mean "show-export duration"',
        ),
        (claim("x", 'at-most = "1 %"').replace("fw-1.11", "fw-1.1"), 'did you mean "fw-1.11"'),
        (claim("x", 'between = ["3 %", "1 %"]'), "[lowest, highest]"),
        (claim("x", 'within = "2 ms"'), "within is for changes"),
        ("", "study.toml contains no claims"),
    ],
)
def test_claims_that_mean_nothing_are_refused(ferocal: Ferocal, text: str, complaint: str) -> None:
    ferocal.write(STUDY.format(claims=text))
    assert complaint in " ".join(ferocal.refusal("claims").split())
    assert not (ferocal.directory / "ledger.sqlite").exists()


def test_the_claims_of_a_study_are_one_family() -> None:
    """Ten claims, all true and none by more than nothing: how often one is refuted."""
    rng = np.random.default_rng(3)
    wrong = 0
    for _ in range(400):
        readings = simulate(rng, metrics=10, rounds=6, drift=0.0)
        tests = [
            ClaimTest(((Arm(s, 0, 1), 1.0), (Arm(s, 0, 0), -1.0)), -math.inf, 0.0)
            for s in range(10)
        ]
        found = judge_claims(readings, tests, Setting())
        wrong += any(c.verdict is ClaimVerdict.REFUTED for c in found)
    assert wrong / 400 < 0.085


def test_merged_ledgers_keep_the_claims_of_both(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(claims=claim("early", 'at-most = "1 %"')))
    ferocal.quick("measure", "--rounds", "1")
    copy = Ferocal(ferocal.directory / "copy")
    copy.directory.mkdir()
    copy.write(STUDY.format(claims=claim("early", 'at-most = "7 %"')))
    copy.quick("claims")
    ferocal.quick("merge", "copy")
    assert [h["claim"]["at-most"] for h in judged(ferocal)["early"]["history"]] == ["7 %"]


def test_claims_say_what_comparisons_say_on_every_bench(ferocal: Ferocal, tmp_path: Path) -> None:
    """Benches on which other metrics were read have each their own index."""
    kept = restore("atelier", tmp_path)
    study = kept.directory / "study.toml"
    ranges = "".join(
        f'[claim.{bench}-{n}]\nsays = "No change."\nmetric = "{metric}"\nbench = "{bench}"\n'
        f'configuration = "d3+mono+wide"\nbetween = ["-9 %", "9 %"]\n'
        for bench in ("apse", "nave", "crypt")
        for n, metric in enumerate(("index", "dawn rate", "eclipse load", "meteor"))
    )
    study.write_text(study.read_text(encoding="utf-8") + ranges, encoding="utf-8")
    judged = {c["name"]: c for c in kept.json("claims")["claims"]}
    for bench in ("apse", "nave", "crypt"):
        found = kept.json("compare", "--bench", bench, "--configuration", "d3+mono+wide")
        whole = [s for s in found["summaries"] if s["group"] == "primary metrics"]
        compared = {
            "index": next(s for s in whole if s["statistic"] == "geometric mean"),
            **{f"{e['workload']} {e['metric']}": e for e in found["effects"]},
        }
        for n, metric in enumerate(("index", "dawn rate", "eclipse load", "meteor rate")):
            claim, effect = judged[f"{bench}-{n}"], compared.get(metric)
            ends = [effect and effect[name] for name in ("change", "low", "high")]
            assert [claim[name] for name in ("change", "low", "high")] == pytest.approx(ends)
