"""Which factor did it: effects, interactions, aliases, shares, scaling."""

from __future__ import annotations

import itertools
import math
import tomllib
from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd
import pytest
import statsmodels.formula.api as smf
from scipy import stats

from conftest import Ferocal
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.factors.confounding import find_confounding, separating_set
from ferocal.analysis.factors.decomposition import decompose
from ferocal.analysis.factors.design import code, make_design
from ferocal.analysis.factors.fitting import Attribution, FactorSetting
from ferocal.analysis.factors.questions import (
    find_effects,
    find_interactions,
    find_lack_of_fit,
)
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.looks import plan_looks
from ferocal.documents.factor_lines import confounded_text
from simulation import simulate_factors

Rows = list[dict[str, str]]


def grid(**levels: str) -> Rows:
    """All combinations of levels that are one letter each."""
    return [dict(zip(levels, c, strict=True)) for c in itertools.product(*levels.values())]


def attribute(readings: Readings, rows: Rows, **setting: Any) -> Attribution:
    return Attribution(readings, 0, FactorSetting(rows, rows[0], 0.02, **setting))


def frame_of(readings: Readings, rows: Sequence[dict[str, str]]) -> pd.DataFrame:
    data = [
        {**rows[c], "round": f"r{r}", "y": math.log(v)}
        for c, r, v in zip(
            readings.configuration_of.tolist(), readings.round_of.tolist(),
            readings.value.tolist(), strict=True,
        )
    ]  # fmt: skip
    return pd.DataFrame(data)


@pytest.mark.parametrize("missing", [0.0, 0.2])
def test_effects_are_contrasts_of_means_with_rounds_as_blocks(missing: float) -> None:
    """By round where all are there, else from the means that statsmodels clears of rounds."""
    rows = grid(driver="ab", api="ab")
    readings = simulate_factors(
        np.random.default_rng(8), [0.0, 0.09, 0.06, 0.20], rounds=8, missing=missing
    )
    known = attribute(readings, rows)
    frame = frame_of(readings, rows)
    frame["cell"] = frame.driver + frame.api
    fit = smf.ols("y ~ 0 + C(cell) + C(round)", frame).fit()
    means = fit.params.iloc[:4].to_numpy()  # of aa, ab, ba, bb
    found = {e.factor: e.judged for e in find_effects(known)}
    (interaction,) = find_interactions(known)
    cases = [
        (found["driver"], np.array([-1, -1, 1, 1]) / 2),
        (found["api"], np.array([-1, 1, -1, 1]) / 2),
        (interaction.judged, np.array([1, -1, -1, 1])),
    ]
    by_round = frame.pivot(index="round", columns="cell", values="y")
    for judged, weights in cases:
        assert judged is not None
        assert judged.mean == pytest.approx(weights @ means)
        if not missing:
            theirs = stats.ttest_1samp(by_round.to_numpy() @ weights, 0)
            ends = theirs.confidence_interval(0.95)
            assert [judged.shift.low, judged.shift.high] == pytest.approx([ends.low, ends.high])
            assert judged.shift.p_value == pytest.approx(theirs.pvalue)
            assert judged.shift.degrees == pytest.approx(7)
        else:
            assert 3 < judged.shift.degrees < 7


def test_lack_of_fit_is_that_of_the_classical_test_and_widens_the_intervals() -> None:
    rows = grid(a="xyz", b="xyz", c="xy")
    rng = np.random.default_rng(2)
    logs = rng.normal(0, 0.03, len(rows)).tolist()
    readings = simulate_factors(rng, logs, rounds=4)
    known = attribute(readings, rows)
    (lack,) = find_lack_of_fit(known)
    data = frame_of(readings, rows)
    data["cell"] = data["a"] + data["b"] + data["c"]
    model = smf.ols("y ~ (a + b + c) ** 2 + C(round)", data).fit()
    whole = smf.ols("y ~ C(cell) + C(round)", data).fit()
    f = ((model.ssr - whole.ssr) / (model.df_resid - whole.df_resid)) / whole.mse_resid
    assert lack.degrees == model.df_resid - whole.df_resid == 4
    fit = next(iter(known.fits.values()))
    assert fit.squares == pytest.approx(model.ssr) and fit.pure_squares == pytest.approx(whole.ssr)
    assert f > 5 and lack.p_value < 1e-3 and not lack.used
    wide = [{**row, "d": d} for row in rows for d in "xy"]
    logs = [x + rng.normal(0, 0.03) for x in logs for _ in "xy"]
    known = attribute(simulate_factors(rng, logs, rounds=4), wide)
    (lack,) = find_lack_of_fit(known)
    assert lack.used and lack.degrees >= 5
    variance, degrees = next(iter(known.fits.values())).variance
    assert degrees == lack.degrees and variance > 4 * 0.01**2


def test_intervals_of_factors_cover_and_verdicts_have_their_error_rate() -> None:
    """A quick look; `make bench` has the whole calibration."""
    rng = np.random.default_rng(12)
    rows = grid(driver="ab", api="abc")
    design = make_design(rows, rows[0], [0] * len(rows))
    terms = (*design.main_terms, *design.interaction_terms)
    covered, wrong, studies = [], 0, 150
    for _ in range(studies):
        sizes = np.r_[rng.normal(0, 0.03, 3), np.zeros(2)]
        known = attribute(simulate_factors(rng, (code(rows, terms) @ sizes).tolist()), rows)
        for effect in find_effects(known):
            place = [t.levels[0] for t in design.main_terms].index((effect.factor, effect.level))
            assert effect.judged is not None
            covered.append(effect.judged.low <= math.expm1(sizes[place]) <= effect.judged.high)
        wrong += any(i.judged.p_adjusted < 0.05 for i in find_interactions(known))
    assert 0.91 < np.mean(covered) < 0.985
    assert wrong / studies < 0.11


def test_aliases_are_those_of_the_rank_and_every_proposal_separates() -> None:
    rng = np.random.default_rng(5)
    proposals = 0
    for _ in range(60):
        sizes = rng.integers(2, 5, rng.integers(2, 6))
        every = grid(**{f"f{n}": "wxyz"[:size] for n, size in enumerate(sizes)})
        rows = [every[n] for n in rng.permutation(len(every))[: rng.integers(2, 3 + sum(sizes))]]
        barred = {tuple(every[n].values()) for n in rng.permutation(len(every))[: len(every) // 4]}
        # The first level of each factor need not have been measured together.
        first = {f: rows[n % len(rows)][f] for n, f in enumerate(rows[0])}
        design = make_design(rows, first, [0] * len(rows))
        terms = design.main_terms
        matrix = np.hstack([np.ones((len(rows), 1)), code(rows, terms)])
        rank = np.linalg.matrix_rank(matrix)
        lost = {
            t for n, t in enumerate(terms)
            if np.linalg.matrix_rank(np.delete(matrix, n + 1, axis=1)) == rank
        }  # fmt: skip
        found = find_confounding(design, lambda c, no=barred: tuple(c.values()) not in no)  # type: ignore[misc]
        assert {t for c in found for t in c.terms} == lost
        for confounding in found:
            if confounding.separate is not None:
                proposals += 1
                assert tuple(confounding.separate.values()) not in barred
                wider = code([*rows, confounding.separate], terms)
                assert np.linalg.matrix_rank(np.c_[np.ones(len(rows) + 1), wider]) == rank + 1
    assert proposals > 30


def test_what_shares_no_round_is_not_compared_unless_others_link_it() -> None:
    rows = grid(driver="ab", api="ab")
    readings = simulate_factors(np.random.default_rng(4), [0.0, 0.09, 0.06, 0.15], rounds=8)
    early, second = readings.round_of <= 4, readings.configuration_of % 2 == 1
    apart = readings.select(early != second)
    found = {e.factor: e for e in find_effects(attribute(apart, rows))}
    assert found["driver"].estimable and not found["api"].estimable
    assert found["api"].judged is None
    (lone,) = find_confounding(attribute(apart, rows).design, lambda levels: True)
    assert (
        confounded_text(lone.terms) == "api=b was never measured in common rounds with the others"
    )
    # One round with three of them joins the two halves; "b" of both was linked by way of others.
    linked = readings.select((early != second) | (readings.round_of == 8))
    assert all(e.estimable for e in find_effects(attribute(linked, rows)))


def test_parts_of_a_change_add_up_whatever_acts_on_what() -> None:
    rows = grid(driver="ab", api="ab", shell="ab")
    rng = np.random.default_rng(7)
    known = attribute(simulate_factors(rng, rng.normal(0, 0.1, 8).tolist(), rounds=4), rows)
    (parts,) = decompose(known, 0, 7)
    assert len(parts.parts) == 3
    assert sum(p.judged.mean for p in parts.parts) == pytest.approx(parts.total.mean)
    # The mean over all orders of switching, one after the other (Shapley 1953).
    model, coefficients = known.fits[0].model, known.fits[0].coefficients
    orders = list(itertools.permutations(("driver", "api", "shell")))
    mean = dict.fromkeys(orders[0], 0.0)
    for order in orders:
        levels = dict(rows[0])
        for factor in order:
            after = {**levels, factor: "b"}
            mean[factor] += float(model.between(levels, after) @ coefficients) / len(orders)
            levels = after
    assert {p.factor: p.judged.mean for p in parts.parts} == pytest.approx(mean)


def test_a_study_that_was_looked_at_often_is_judged_as_it_is_compared() -> None:
    rows = grid(driver="abc")
    readings = simulate_factors(np.random.default_rng(8), [0.0, 0.02, 0.03], rounds=8)
    setting = Setting(looks=plan_looks(10))
    found = find_effects(attribute(readings, rows, judging=setting))
    compared = estimate_effects(readings, readings.configurations[0], setting)
    for ours, theirs in zip(found, compared, strict=True):
        assert ours.judged is not None
        assert ours.judged.shift == theirs.shift and ours.judged.verdict is theirs.verdict


def test_the_smallest_set_that_separates_costs_least() -> None:
    """Against all sets of as few configurations, tried one after the other."""
    levels = {"driver": "ab", "firmware": "ab", "api": "abc"}
    every = grid(**levels)
    price = {"driver": 5, "firmware": 20, "api": 1}

    def cost(row: Any) -> float:
        return sum(price[f] for f, v in row.items() if v != "a")

    chosen, left = separating_set(levels, every[0], [every[0]], [], lambda row: True, cost)
    assert not left and len(chosen) == 5
    terms = make_design(every, every[0], [0] * len(every)).main_terms
    cheapest = min(
        sum(map(cost, rest))
        for rest in itertools.combinations(every[1:], 4)
        if np.linalg.matrix_rank(np.c_[np.ones(5), code([every[0], *rest], terms)]) == 5
    )
    assert sum(map(cost, chosen)) == cheapest
    # Without the combinations that separate driver from firmware, that is said of both.
    tied = separating_set(
        levels, every[0], [every[0]], [], lambda row: row["driver"] == row["firmware"], cost
    )[1]
    assert {term.factors[0] for term in tied} == {"driver", "firmware"}


UPDATE = """
[study]
question = "What did the update do?"
margin = "1 %"
rounds = 5
runs = 1
[bench.node.probe]
codec = {{ command = 'echo "$CODEC"', shell = true, kind = "software" }}
[factor.driver.level.r61]
environment = {{ DRIVER = "1000" }}
takes = "4 min"
switch = "true"
[factor.driver.level.r64]
environment = {{ DRIVER = "1060" }}
takes = "4 min"
switch = "true"
[factor.firmware.level.old]
environment = {{ FIRMWARE = "1000" }}
takes = "20 min"
switch = "true"
[factor.firmware.level.new]
environment = {{ FIRMWARE = "1050" }}
takes = "20 min"
switch = "true"
[factor.shell.level.plain]
environment = {{ SHELL_COST = "1000", CODEC = "A" }}
[factor.shell.level.rich]
environment = {{ SHELL_COST = "900", CODEC = "{codec}" }}
[configuration]
design = "listed"
baseline = "before"
{named}
[workload.show-export]
shell = true
command = 'echo took $((DRIVER * FIRMWARE / 1000 * SHELL_COST / 10 + FEROCAL_VISIT * 7 % 5 * 100))'
[workload.show-export.metric.duration]
unit = "ms"
better = "lower"
source = {{ pattern = "took ([0-9]+)" }}
"""
ARMS = {
    "before": ("r61", "old", "plain"),
    "after": ("r64", "new", "plain"),
    "after-rich": ("r64", "new", "rich"),
    "before-rich": ("r61", "old", "rich"),
}


def update(ferocal: Ferocal, arms: dict[str, tuple[str, str, str]], codec: str = "A") -> Ferocal:
    named = [
        f'named.{name} = {{ driver = "{d}", firmware = "{f}", shell = "{s}" }}'
        for name, (d, f, s) in arms.items()
    ]
    ferocal.write(UPDATE.format(named="\n".join(named), codec=codec))
    return ferocal


def test_what_moved_together_is_credited_together_and_told_apart_by_what_is_proposed(
    ferocal: Ferocal,
) -> None:
    update(ferocal, ARMS)
    shortcoming = next(s for s in ferocal.json("plan")["shortcomings"] if "together" in s)
    assert "driver (r64) and firmware (new) always changed together" in shortcoming
    assert "r64+old+plain would: ferocal plan --design separate" in shortcoming
    ferocal.quick("measure")
    document = ferocal.json("factors")
    (alias,) = document["confounded"]
    assert alias["terms"] == ["driver=r64", "firmware=new"]
    assert alias["levels"] == {"driver": "r64", "firmware": "old", "shell": "plain"} or (
        alias["separate"] == "r61+new+plain"
    )
    by_level = {e["level"]: e for e in document["factors"]}
    assert not by_level["r64"]["estimable"] and by_level["r64"]["together"] == ["firmware=new"]
    assert by_level["r64"]["change"] == pytest.approx(1.06 * 1.05 - 1, abs=0.004)
    assert by_level["rich"]["estimable"]
    assert by_level["rich"]["change"] == pytest.approx(-0.1, abs=0.004)
    (parts,) = document["decomposition"]
    whole = math.log1p(parts["change"])
    assert sum(math.log1p(p["change"]) for p in parts["parts"]) == pytest.approx(whole)
    assert sum(p["share"] for p in parts["parts"]) == pytest.approx(1)
    assert {p["factor"] for p in parts["parts"]} == {"shell", "driver and firmware"}
    assert parts["through"] == ["after", "before-rich"]
    text = " ".join(ferocal.quick("factors").split())
    assert "driver r64 and firmware new worse: show-export +11." in text
    assert text.count("driver r64 and firmware new") == 1

    proposal = ferocal.json("plan", "--design", "separate")
    new = [c for c in proposal["configurations"] if c["new"]]
    assert len(proposal["configurations"]) == 4 and len(new) == 1
    # The driver is the cheaper of the two to switch.
    assert new[0]["levels"] == {"driver": "r64", "firmware": "old", "shell": "plain"}
    tables = tomllib.loads("\n".join(proposal["study_file"]))["configuration"]
    levels = [tuple(row.values()) for row in tables["named"].values()]
    update(ferocal, dict(zip("abcd", levels, strict=True)) | {"before": ARMS["before"]})
    assert "always changed together" not in ferocal.quick("plan")
    said = ferocal.refusal("plan", "--design", "separate", "--interaction", "driver:shel")
    assert 'did you mean "shell"?' in said


def test_a_factor_is_not_credited_with_what_software_moved_with_it(ferocal: Ferocal) -> None:
    update(ferocal, ARMS, codec="B")
    ferocal.quick("measure")
    document = ferocal.json("factors")
    rich = next(e for e in document["factors"] if e["level"] == "rich")
    assert not rich["estimable"] and rich["together"] == ["codec: A, B"]
    told = next(c for c in document["confounded"] if "codec" in c["terms"])
    assert "codec (A, B) moved with shell=rich" in told["text"]
    assert told["separate"] == "shell=rich with the codec of shell=plain"
    text = (ferocal.directory / "study.toml").read_text(encoding="utf-8")
    ferocal.write(
        text.replace(
            "[factor.shell.level.plain]",
            '[factor.shell]\nexplains = ["codec"]\n[factor.shell.level.plain]',
        )
    )
    rich = next(e for e in ferocal.json("factors")["factors"] if e["level"] == "rich")
    assert rich["estimable"] and rich["together"] == []


ADAPTERS = '''
[study]
question = "What do more adapters give?"
margin = "2 %"
rounds = 5
runs = 1
[factor.adapters.level.one]
environment = { N = "1" }
quantity = 1
[factor.adapters.level.two]
environment = { N = "2" }
quantity = 2
[factor.adapters.level.four]
environment = { N = "4" }
quantity = 4
[factor.release.level.r8]
environment = { FASTER = "0" }
[factor.release.level.r9]
environment = { FASTER = "1" }
[configuration]
impossible = [{ adapters = "four", release = "r8" }]
[workload.flight]
shell = true
command = """
saved=$((FASTER * (N > 1)))
echo took $(((4000 + 36000 / N) * (10 - saved) + FEROCAL_VISIT * 7 % 5 * 200))"""
[workload.flight.metric.time]
unit = "ms"
better = "lower"
source = { pattern = "took ([0-9]+)" }
[workload.idle]
weight = 3
command = "echo idle 5"
[workload.idle.metric.memory]
unit = "MiB"
better = "lower"
source = { pattern = "idle ([0-9]+)" }
resolution = 0.01
'''


def test_scaling_interactions_index_and_levels_that_are_impossible(ferocal: Ferocal) -> None:
    ferocal.write(ADAPTERS)
    ferocal.quick("measure")
    document = ferocal.json("factors")
    (scaling,) = [s for s in document["scaling"] if s["workload"] == "flight"]
    two, four = scaling["steps"]
    assert (two["amount"], four["amount"]) == (2, 4)
    # A tenth of the work is serial: 40000 over 22000 and over 13000; r9 adds half of a tenth.
    assert two["speed"] == pytest.approx(40 / 22 * (1 / 0.9) ** 0.5, rel=0.01)
    assert two["efficiency"] == pytest.approx(two["speed"] / 2)
    assert 0 < scaling["serial_share"] < 0.1
    acting = {i["other_level"]: i for i in document["interactions"] if i["workload"] == "flight"}
    assert set(acting) == {"two"} and acting["two"]["verdict"] == "better"
    assert acting["two"]["beside_level"] == pytest.approx(-0.1, abs=0.01)
    text = " ".join(ferocal.quick("factors").split())
    assert "r9 on flight time gains with two" in text or "r9 on flight gains with two" in text
    assert "but not with one" in text and "four+r8 (impossible)" in text
    assert ["four+r8", "impossible"] in document["not_measured"]
    index = {e["level"]: e for e in document["factors"] if e["workload"] is None}
    flight = {e["level"]: e for e in document["factors"] if e["workload"] == "flight"}
    for level in ("two", "four"):
        # A quarter of the weight is on flight, and idle memory never changes.
        assert math.log1p(index[level]["change"]) == pytest.approx(
            -math.log1p(flight[level]["change"]) / 4
        )
    parts = {(p["level"], p["workload"]): p for p in document["index"]}
    assert parts["two", "flight"]["index_weight"] == 0.25
    caveat = next(
        c
        for e in ferocal.json("compare", "--configuration", "two+r8")["effects"]
        for c in e["caveats"]
        if c["code"] == "per-resource"
    )
    assert "adapters 2 against 1; per unit, the speed changes by" in caveat["seen"]


def test_factors_of_a_loaded_file_come_from_its_columns(ferocal: Ferocal) -> None:
    rng = np.random.default_rng(3)
    lines = ["driver,firmware,workload,metric,unit,round,value"]
    for r, (d, f) in itertools.product(
        range(1, 6), (("r61", "old"), ("r64", "new"), ("r64", "old"))
    ):
        value = 200 * (1.06 if d == "r64" else 1) * (1.03 if f == "new" else 1)
        lines.append(f"{d},{f},show-export,duration,s,{r},{value * rng.normal(1, 0.002):.3f}")
    (ferocal.directory / "in.csv").write_text("\n".join(lines), encoding="utf-8")
    ferocal.quick("new", "st", "--from", "in.csv", "--factor", "driver", "--factor", "firmware")
    found = Ferocal(ferocal.directory / "st").json("factors")
    changes = {e["factor"]: e["change"] for e in found["factors"]}
    assert changes == pytest.approx({"driver": 0.06, "firmware": 0.03}, abs=0.006)
    assert found["confounded"] == [] and found["interactions"] == []
    assert [b["separate"] for b in found["blind"]] == ["r61+new"]


def test_nothing_to_attribute_is_said(ferocal: Ferocal) -> None:
    update(ferocal, {"before": ARMS["before"], "after": ARMS["after"]})
    ferocal.quick("factors", status=1)
    ferocal.quick("measure", "--configuration", "before")
    assert "No factor has been measured" in ferocal.quick("factors")
