"""One ledger, one answer: whatever is asked, the same contrast has the same interval."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import stats

import ferocal as face
from conftest import Ferocal
from ferocal.analysis.inference.effects import Estimate
from ferocal.analysis.inference.two_way import TwoWay

RELEASES = ("fw-1.00", "fw-1.01", "fw-1.02", "fw-1.03")
STUDY = """
[study]
question = "Which firmware is faster?"
margin = "1 %"
schedule = "{schedule}"
[factor.firmware]
order = "file"
{levels}
[workload.kiosk-page.metric.score]
unit = "points"
better = "higher"
{noise}
[workload.idle.metric.memory]
unit = "MiB"
better = "lower"
{claims}
"""
CLAIM = """
[claim."{name}"]
says = "not half as fast"
metric = "kiosk-page score"
configuration = "{name}"
at-least = "-50 %"
"""


def study(
    ferocal: Ferocal, rng: np.random.Generator, visits: Sequence[int], *, rounds: bool, noise: str
) -> None:
    """Readings of every release, so many visits each; rounds shift all of their visits."""
    levels = "\n".join(f'[factor.firmware.level."{name}"]' for name in RELEASES)
    claims = "".join(CLAIM.format(name=name) for name in RELEASES[1:])
    schedule = "rounds" if rounds else "once"
    text = STUDY.format(schedule=schedule, levels=levels, noise=noise, claims=claims)
    ferocal.write(text.replace(".metric.score]", '.metric.score]\nrole = "primary"'))
    lines = ["configuration,workload,metric,value,visit" + (",round" if rounds else "")]
    shift = rng.normal(0, 0.05, max(visits))
    for c, (name, count) in enumerate(zip(RELEASES, visits, strict=True)):
        for n in rng.permutation(max(visits))[:count].tolist():
            for workload, metric in (("kiosk-page", "score"), ("idle", "memory")):
                value = 300 * math.exp(0.02 * c + shift[n] + 0.01 * (1 + 4 * c) * rng.normal())
                row = f"{name},{workload},{metric},{value!r},{c}-{n}"
                lines.append(f"{row},{n + 1}" if rounds else row)
    (ferocal.directory / "in.csv").write_text("\n".join(lines))
    ferocal.quick("load", "in.csv")


def alike(one: Estimate, other: Estimate) -> bool:
    """Whether two estimates are the same, of what is not known too."""
    first, second = (
        np.array([s.mean, s.low, s.high, s.p_value, s.degrees]) for s in (one.shift, other.shift)
    )
    return one.method is other.method and np.array_equal(first, second, equal_nan=True)


def answers(directory: Path) -> Iterator[tuple[str, dict[str, Estimate]]]:
    """What each question says of the releases against the first one, of the score."""
    opened = face.open(directory)
    chosen = [e for e in opened.compare().effects if e.series.workload == "kiosk-page"]
    yield "compare", {e.configuration: e for e in chosen}
    factors = opened.factors().answer.benches[0].effects
    yield "factors", {e.level: e.judged for e in factors
                      if e.series.workload == "kiosk-page" and e.judged}  # fmt: skip
    series = [
        v for v in opened.series("firmware").answer.values if v.series.workload == "kiosk-page"
    ]
    yield "series", {RELEASES[v.release]: v.against_first for v in series if v.against_first}
    claims = opened.claims().answer.findings
    yield "claims", {f.name: f.judged.estimate for f in claims if f.judged.estimate}
    ranking = next(
        r for r in opened.ranking().answer.fields[0].rankings if r.series.workload != "idle"
    )
    place = {s.configuration: n for n, s in enumerate(ranking.standings)}
    pairs = {n: ranking.estimates.get((k, place[RELEASES[0]])) for n, k in place.items()}
    yield "rank", {name: e for name, e in pairs.items() if e is not None}


CASES: dict[str, dict[str, Any]] = {
    "in rounds": {"visits": (5, 5, 5, 5), "rounds": True, "noise": ""},
    "some missing": {"visits": (6, 5, 4, 6), "rounds": True, "noise": ""},
    "without rounds": {"visits": (2, 7, 3, 2), "rounds": False, "noise": ""},
    "some once": {"visits": (1, 5, 1, 4), "rounds": False, "noise": ""},
    "stated": {"visits": (1, 1, 1, 1), "rounds": False, "noise": 'noise = "0.7 %"'},
    "seen once": {"visits": (1, 1, 1, 1), "rounds": False, "noise": ""},
}


@pytest.mark.parametrize("case", CASES)
def test_every_question_has_the_same_answer(ferocal: Ferocal, case: str) -> None:
    study(ferocal, np.random.default_rng(len(case)), **CASES[case])
    (_, compared), *others = answers(ferocal.directory)
    assert set(compared) == set(RELEASES[1:])
    for question, known in others:
        assert set(known) == set(RELEASES[1:]), question
        for name, estimate in known.items():
            assert alike(estimate, compared[name]), (question, name)
    # What throws doubt on a comparison throws doubt on all that rest on it.
    codes = {c["code"] for e in ferocal.json("compare")["effects"] for c in e["caveats"]}
    for command in (("rank",), ("factors",), ("series", "firmware")):
        document = ferocal.json(*command)
        assert {c["code"] for c in document["caveats"]} == codes
    assert {c["code"] for c in ferocal.json("claims")["caveats"]} <= codes


def brute_force(
    arm: np.ndarray, block: np.ndarray, weights: np.ndarray, value: np.ndarray
) -> tuple[float, float, float]:
    """Estimate, CR2 variance and degrees as the papers have them, with a dummy for every round."""
    arms, blocks = np.eye(int(arm.max()) + 1)[arm], np.eye(int(block.max()) + 1)[block]
    design = np.hstack([arms, blocks])
    bread = np.linalg.pinv(design.T @ design)
    contrast = np.r_[weights, np.zeros(blocks.shape[1])] @ bread
    left = np.eye(len(value)) - design @ bread @ design.T
    residual, square, vectors = left @ value, 0.0, []
    for n in range(blocks.shape[1]):
        rows = block == n
        values, basis = np.linalg.eigh(left[np.ix_(rows, rows)])
        powers = [v**-0.5 if v > 1e-9 else 0.0 for v in values]
        root = basis @ np.diag(powers) @ basis.T
        own = contrast @ design[rows].T @ root
        square += float(own @ residual[rows]) ** 2
        vectors.append(own @ left[rows])
    crossed = np.array(vectors) @ np.array(vectors).T
    degrees = np.trace(crossed) ** 2 / np.sum(crossed**2)
    return float(contrast @ design.T @ value), square, float(degrees)


@pytest.mark.parametrize("seed", range(8))
def test_errors_within_rounds_are_those_of_the_published_formulas(seed: int) -> None:
    rng = np.random.default_rng(seed)
    arms, rounds = int(rng.integers(3, 6)), int(rng.integers(4, 8))
    arm, block = np.tile(np.arange(arms), rounds), np.repeat(np.arange(rounds), arms)
    # All are there in the first two rounds, so that everything is connected.
    kept = (rng.random(len(arm)) > 0.3) | (block < 2)
    _, dense = np.unique(block[kept], return_inverse=True)
    model, value = TwoWay(arm[kept], dense), rng.normal(0, 1, int(kept.sum()))
    weights = rng.normal(0, 1, arms)
    weights -= weights.mean()
    found = model.contrast(weights, value)
    expected = brute_force(arm[kept], dense, weights, value)
    assert (found.mean, found.square, found.degrees) == pytest.approx(expected, rel=1e-6)
    pair = np.eye(arms)[0] - np.eye(arms)[1]
    both = TwoWay(arm, block).contrast(pair, whole := rng.normal(0, 1, len(arm)))
    table = whole.reshape(rounds, arms)
    test = stats.ttest_rel(table[:, 0], table[:, 1])
    assert both.mean / math.sqrt(both.square) == pytest.approx(test.statistic)
    assert both.degrees == pytest.approx(rounds - 1)


def test_a_metric_that_the_baseline_never_had_is_compared_with_what_has_it(
    ferocal: Ferocal,
) -> None:
    rng = np.random.default_rng(4)
    lines = ["driver,api,workload,metric,unit,round,value"]
    for n in range(1, 6):
        for driver, api, factor in (("r61", "gl", 1.0), ("r61", "vk", 1.1), ("r64", "vk", 1.3)):
            for workload in ("flight", "rays"):
                if (workload, api) != ("rays", "gl"):
                    value = 100 * factor * rng.normal(1, 0.005)
                    lines.append(f"{driver},{api},{workload},rate,fps,{n},{value}")
    (ferocal.directory / "in.csv").write_text("\n".join(lines))
    ferocal.quick("new", "st", "--from", "in.csv", "--factor", "driver", "--factor", "api")
    there = Ferocal(ferocal.directory / "st")
    effects = {(e["workload"], e["configuration"]): e for e in there.json("compare")["effects"]}
    assert effects["flight", "r64+vk"]["baseline"] == "r61+gl"
    assert effects["rays", "r64+vk"]["baseline"] == "r61+vk" and ("rays", "r61+vk") not in effects
    assert effects["rays", "r64+vk"]["verdict"] == "better"
    text = there.quick("compare")
    assert "rays (against r61+vk) +1" in text and "¹ the row is relative to this" in text
    (row,) = [r for r in face.open(there.directory).charts()[0].rows
              if r.series.workload == "rays"]  # fmt: skip
    assert row.reference == "r61+vk" and set(row.cells) == {"r61+vk", "r64+vk"}
    study_file = (there.directory / "study.toml").read_text()
    head = '[workload."flight"]'
    there.write(study_file.replace(head, f'{head}\nbaseline = "r61+vk"'))
    stated = {e["configuration"] for e in there.json("compare", "--workload", "flight")["effects"]
              if e["baseline"] == "r61+vk"}  # fmt: skip
    assert stated == {"r61+gl", "r64+vk"}
    there.write(study_file.replace(head, f'{head}\nbaseline = "r61"'))
    assert 'workload.flight.baseline: no configuration "r61"' in there.refusal("compare")


def test_titles_that_use_a_second_adapter_and_titles_that_ignore_it(ferocal: Ferocal) -> None:
    rng = np.random.default_rng(7)
    titles = {"flight": (1.9, 1.8), "rays": (1.3, 0.8), "tour": (1.0, 1.0)}
    lines = ["adapters,workload,metric,unit,round,value"]
    for n in range(1, 7):
        for level, (title, gains) in ((x, y) for x in ("one", "two") for y in titles.items()):
            for metric, gain in zip(("average", "low"), gains, strict=True):
                value = 100 * (gain if level == "two" else 1.0) * rng.normal(1, 0.004)
                lines.append(f"{level},{title},{metric},fps,{n},{value}")
    (ferocal.directory / "in.csv").write_text("\n".join(lines))
    ferocal.quick("new", "st", "--from", "in.csv", "--factor", "adapters")
    there = Ferocal(ferocal.directory / "st")
    text = (there.directory / "study.toml").read_text()
    for amount, level in enumerate(("one", "two"), 1):
        head = f'[factor."adapters".level."{level}"]'
        text = text.replace(head, f"{head}\nquantity = {amount}")
    there.write(text)
    shown = " ".join(there.quick("factors").split())
    assert "adapters two does not act alike" in shown
    for title, use in (("flight", "used"), ("rays", "partly"), ("tour", "ignored")):
        assert any(line.startswith(title) and line.rstrip().endswith(use)
                   for line in there.quick("factors").splitlines())  # fmt: skip
    assert "But adapters two trades better rays average" in shown
    codes = [c["seen"] for e in there.json("compare")["effects"] for c in e["caveats"]
             if c["code"] == "trade-off"]  # fmt: skip
    assert set(codes) == {"with two, rays average gets better and rays low gets worse"}
    summary = {s["statistic"]: s for s in there.json("compare")["summaries"]}
    logs = [math.log(g) for pair in titles.values() for g in pair]
    mean = summary["geometric mean"]
    assert mean["low"] <= math.expm1(np.mean(logs)) <= mean["high"] and mean["members"] == 6
    assert summary["median"]["change"] == pytest.approx(math.expm1(np.median(logs)), abs=0.01)
    factors = there.quick("compare", "--as-factor")
    assert "times as fast" in factors and "geometric mean" in factors
    assert len(factors.splitlines()) < 30


def test_a_ladder_shows_what_is_identified_and_no_pair_that_was_not_measured(
    ferocal: Ferocal,
) -> None:
    rng = np.random.default_rng(3)
    ladder = (("r61", "f1"), ("r62", "f2"), ("r63", "f3"), ("r64", "f3"), ("r65", "f5"))
    lines = ["driver,firmware,workload,metric,unit,round,value"]
    for n in range(1, 7):
        for k, (driver, firmware) in enumerate(ladder):
            value = 100 * math.exp(0.03 * k + 0.003 * rng.normal())
            lines.append(f"{driver},{firmware},flight,rate,fps,{n},{value}")
    (ferocal.directory / "in.csv").write_text("\n".join(lines))
    ferocal.quick("new", "st", "--from", "in.csv", "--factor", "driver", "--factor", "firmware")
    found = Ferocal(ferocal.directory / "st").json("factors")["factors"]
    (between,) = [e for e in found if e["against"] == "r63"]
    assert between["level"] == "r64" and between["estimable"]
    assert between["low"] <= math.expm1(0.03) <= between["high"]
    pairs = {(e["level"], t.partition("=")[2]) for e in found for t in e["together"]}
    assert pairs <= {*ladder, *((f, d) for d, f in ladder)}


def test_what_would_decide_is_said_where_nothing_can_be_repeated(ferocal: Ferocal) -> None:
    study(ferocal, np.random.default_rng(1), (1, 1, 1, 1), rounds=False, noise='noise = "3 %"')
    pending = [e for e in ferocal.json("compare")["effects"] if e["verdict"] == "inconclusive"]
    assert pending and all(e["more_visits"] for e in pending if e["workload"] == "kiosk-page")
    text = " ".join(ferocal.quick("compare").split())
    assert "more visits to each side would have settled" in text and "ferocal plan" in text
    assert "visits to each side needed to detect" in " ".join(ferocal.quick("plan").split())
