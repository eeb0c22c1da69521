"""The analysis on its own: oracles, properties, simulations with known truth."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.multitest import multipletests
from statsmodels.stats.power import TTestPower

from ferocal.analysis.components import estimate_components
from ferocal.analysis.effects import Effect, estimate_effects
from ferocal.analysis.looks import plan_looks
from ferocal.analysis.paired import paired_t
from ferocal.analysis.power import (
    best_runs,
    power_difference,
    power_equivalence,
    rounds_to_decide,
)
from ferocal.analysis.readings import Readings, Series, tabulate
from ferocal.analysis.verdicts import Verdict, adjust_holm, decide
from ferocal.plan.order import plan_rounds
from simulation import NAMES, simulate


def effects_of(readings: Readings) -> tuple[Effect, ...]:
    return estimate_effects(readings, "base", differing={})


@given(st.lists(st.floats(-1, 1), min_size=2, max_size=30).filter(lambda d: np.std(d) > 1e-6))
def test_paired_t_agrees_with_scipy(differences: list[float]) -> None:
    ours = paired_t(np.array(differences))
    theirs = stats.ttest_1samp(differences, 0)
    interval = theirs.confidence_interval(0.95)
    assert ours.p_value == pytest.approx(theirs.pvalue, rel=1e-6, abs=1e-12)
    assert (ours.low, ours.high) == pytest.approx((interval.low, interval.high), rel=1e-6, abs=1e-9)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.floats(0, 1), min_size=1, max_size=40), st.integers(0, 3))
def test_holm_agrees_with_statsmodels_and_skips_the_unknown(p: list[float], unknown: int) -> None:
    adjusted = adjust_holm(np.array([np.nan] * unknown + p))
    assert np.isnan(adjusted[:unknown]).all()
    assert adjusted[unknown:] == pytest.approx(multipletests(p, method="holm")[1])


@pytest.mark.parametrize("rounds", [2, 3, 6, 25])
@pytest.mark.parametrize("effect", [0.0, 0.5, 2.0])
def test_power_agrees_with_statsmodels_and_simulation(effect: float, rounds: int) -> None:
    theirs = TTestPower().power(effect, rounds, 0.05, alternative="two-sided")
    assert power_difference(effect, 1.0, rounds) == pytest.approx(theirs, abs=1e-6)
    if rounds > 5:
        draws = np.random.default_rng(1).normal(effect, 1, (4000, rounds))
        half = stats.t.ppf(0.975, rounds - 1) * draws.std(axis=1, ddof=1) / np.sqrt(rounds)
        inside = np.mean(np.abs(draws.mean(axis=1)) + half < 1.5)
        assert power_equivalence(effect, 1.0, rounds, 1.5) == pytest.approx(inside, abs=0.03)


def test_rounds_to_decide_is_the_first_number_that_suffices() -> None:
    needed = rounds_to_decide(0.05, 0.03, 0.02)
    assert needed is not None
    assert power_difference(0.05, 0.03, needed) >= 0.8 > power_difference(0.05, 0.03, needed - 1)
    near_margin = rounds_to_decide(0.0001, 1.0, 0.02)
    assert near_margin is None


def test_coverage_power_and_false_differences_are_as_promised() -> None:
    rng = np.random.default_rng(5)
    nil = [effects_of(simulate(rng))[0] for _ in range(600)]
    real = [effects_of(simulate(rng, change=0.05))[0] for _ in range(600)]
    false = np.mean([not e.low <= 0 <= e.high for e in nil])
    covered = np.mean([e.low <= 0.05 <= e.high for e in real])
    found = np.mean([e.shift.p_value < 0.05 for e in real])
    assert 0.03 < false < 0.075
    assert covered > 0.925
    assert 0.6 < found < 0.75


def test_one_family_holds_its_error_rate_and_a_primary_series_is_its_own() -> None:
    rng = np.random.default_rng(6)
    studies = [effects_of(simulate(rng, metrics=6, names=NAMES, runs=1)) for _ in range(120)]
    wrong = [any(e.verdict in (Verdict.BETTER, Verdict.WORSE) for e in study) for study in studies]
    assert np.mean(wrong) < 0.1
    readings = simulate(rng, metrics=4)
    first = Series("flight", "m0", "fps", "higher", 0.02, primary=True)
    lone = Readings(**{**vars(readings), "series": (first, *readings.series[1:])})
    assert effects_of(lone)[0].p_adjusted == effects_of(lone)[0].shift.p_value
    assert effects_of(readings)[0].p_adjusted > effects_of(readings)[0].shift.p_value


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_results_do_not_depend_on_the_order_of_rows_nor_change_them(seed: int) -> None:
    rng = np.random.default_rng(seed)
    readings = simulate(rng, metrics=2, names=NAMES, rounds=3)
    before = {name: value.copy() for name, value in columns(readings).items()}
    shuffle = rng.permutation(len(readings.value))
    shuffled = Readings(
        **{**vars(readings), **{k: v[shuffle] for k, v in columns(readings).items()}}
    )
    assert effects_of(shuffled) == effects_of(readings)
    assert all(np.array_equal(before[k], v) for k, v in columns(readings).items())


def test_looking_until_decided_finds_no_more_than_there_is() -> None:
    rng = np.random.default_rng(8)
    looks = plan_looks(20)
    studies = [simulate(rng, rounds=20, runs=1, run_sd=0.01, visit_sd=0.01) for _ in range(250)]
    effects = [estimate_effects(s, "base", differing={}, looks=looks)[0] for s in studies]
    false = [e.verdict in (Verdict.BETTER, Verdict.WORSE) for e in effects]
    assert np.mean(false) < 0.085
    assert np.mean([e.verdict is Verdict.EQUIVALENT for e in effects]) > 0.8
    # A verdict stands from the look at which it was reached, whatever comes after.
    first = estimate_effects(studies[0].up_to_round(20), "base", differing={}, looks=looks)[0]
    assert first.verdict is effects[0].verdict


def test_components_are_found_again_and_say_how_many_runs_are_best() -> None:
    rng = np.random.default_rng(9)
    readings = simulate(rng, rounds=800, runs=4, run_sd=0.02, visit_sd=0.01, names=NAMES)
    found = estimate_components(readings, "base", 0)
    assert found is not None
    assert found.run_variance == pytest.approx(4e-4, rel=0.1)
    # The median of 4 normal readings varies a little more than their mean does.
    assert found.visit_variance == pytest.approx(1e-4, rel=0.3)
    assert found.round_sd**2 == pytest.approx(2 * (1e-4 + 1.19 * 1e-4), rel=0.12)
    assert best_runs(400.0, 100.0, 4e-4, 1e-4) == 4
    assert best_runs(1.0, 100.0, 4e-4, 1e-4) == 1
    assert best_runs(1.0, 1.0, 1.0, 0.0) is None


def columns(readings: Readings) -> dict[str, np.ndarray]:
    return {k: v for k, v in vars(readings).items() if isinstance(v, np.ndarray)}


def readings_of(sides: dict[str, list[list[float]]], *, better: str = "higher") -> Readings:
    """Readings from a list of rounds, each a list of runs, for each configuration."""
    rows = [
        (c, r, value)
        for c, rounds in enumerate(sides.values())
        for r, runs in enumerate(rounds)
        for value in runs
    ]
    c, r, value = (np.array(column) for column in zip(*rows, strict=True))
    series = Series("flight", "score", "W", better, 0.02)  # type: ignore[arg-type]
    n = len(value)
    return Readings("node", (series,), tuple(sides), np.zeros(n, int), c, r, np.arange(n), value)


def test_visits_are_summarised_by_median_or_mean_and_rounds_pair() -> None:
    # By hand: medians 10 and 20 in round 0, means of logs in round 1, round 2 does not pair.
    base = [[10.0, 10.0, 99.0], [8.0, 2.0], [5.0]]
    other = [[20.0, 1.0, 20.0], [4.0, 4.0]]
    (effect,) = effects_of(readings_of({"base": base, "other": other}))
    assert effect.change == pytest.approx(np.sqrt(2.0 * 1.0) - 1)
    assert (effect.rounds, effect.runs) == (2, 10)
    assert {c.code for c in effect.caveats} == {"few-rounds", "unpaired-rounds"}
    (row,) = tabulate(readings_of({"base": base, "other": other}))
    cells = [cell for cell in row if cell is not None]
    assert cells[1].centre == pytest.approx(np.sqrt(20 * 4))
    assert cells[0].cv == pytest.approx(stats.variation([10, 10, 99, 8, 2, 5], ddof=1))


def test_lower_is_better_turns_the_verdict_and_not_the_change() -> None:
    base = [[10.0], [10.1], [9.9], [10.0], [10.2]]
    other = [[8.0], [8.1], [8.0], [7.9], [8.2]]
    (higher,) = effects_of(readings_of({"base": base, "other": other}))
    (lower,) = effects_of(readings_of({"base": base, "other": other}, better="lower"))
    assert higher.change == lower.change < 0
    assert (higher.verdict, lower.verdict) == (Verdict.WORSE, Verdict.BETTER)
    assert higher.beyond_margin


@pytest.mark.parametrize(
    ("base", "other", "code", "verdict"),
    [
        ([[10.0]], [[12.0]], "one-visit", Verdict.INCONCLUSIVE),
        ([[0.0], [1.0], [0.5]], [[7.0], [7.5], [9.0]], "difference-scale", Verdict.BETTER),
        ([[10.0]] * 5, [[10.0]] * 5, "no-spread", Verdict.EQUIVALENT),
        ([[10.0]] * 5, [[12.0]] * 5, "no-spread", Verdict.BETTER),
    ],
)
def test_degenerate_data_get_a_caveat(
    base: list[list[float]], other: list[list[float]], code: str, verdict: Verdict
) -> None:
    (effect,) = effects_of(readings_of({"base": base, "other": other}))
    assert code in {caveat.code for caveat in effect.caveats}
    assert effect.verdict is verdict


def test_equivalence_comes_before_difference() -> None:
    assert decide(0.001, 0.004, 0.0001, 0.02, higher_is_better=True) is Verdict.EQUIVALENT
    assert decide(0.001, 0.03, 0.06, 0.02, higher_is_better=True) is Verdict.INCONCLUSIVE
    assert decide(0.001, 0.03, 0.04, 0.02, higher_is_better=True) is Verdict.BETTER


@given(st.integers(1, 40), st.integers(2, 6), st.integers(0, 99))
def test_rounds_are_whole_mirrored_and_never_change_when_extended(
    rounds: int, count: int, seed: int
) -> None:
    names = [f"c{i}" for i in range(count)]
    visits = plan_rounds(names, rounds, seed)
    order = {r: [v.configuration for v in visits if v.round == r] for r in range(1, rounds + 1)}
    assert all(sorted(own) == names for own in order.values())
    assert all(order[r] == order[r - 1][::-1] for r in range(2, rounds + 1, 2))
    assert plan_rounds(names, rounds + 3, seed)[: len(visits)] == visits


def test_orders_are_shuffled_over_pairs_and_by_seed() -> None:
    first = {tuple(v.configuration for v in plan_rounds(NAMES, 1, s)) for s in range(60)}
    assert len(first) == 6
