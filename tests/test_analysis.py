"""The analysis on its own: oracles, properties, simulations with known truth."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.multitest import multipletests
from statsmodels.stats.power import TTestPower

from ferocal.analysis.caveats.table import add_caveats
from ferocal.analysis.data.cells import tabulate
from ferocal.analysis.data.readings import NO_ROUND, Readings
from ferocal.analysis.data.segments import find_segments, sort_within
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.components import estimate_components
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, Estimate, Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.families import adjust_holm
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.looks import plan_looks
from ferocal.analysis.inference.noise_floors import (
    NoiseFloor,
    SideOfFloor,
    estimate_floor,
    floor_error,
)
from ferocal.analysis.inference.power import (
    MOST_ROUNDS,
    best_runs,
    power_difference,
    power_equivalence,
    rounds_to_decide,
)
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.documents.caveats.words import seen_text
from ferocal.plan.order import plan_rounds
from simulation import NAMES, make_readings, simulate, simulate_once


def effects_of(readings: Readings, setting: Setting | None = None) -> tuple[Effect, ...]:
    setting = setting or Setting()
    return add_caveats(estimate_effects(readings, "base", setting), readings, setting, {})


def readings_of(
    sides: dict[str, list[list[float]]], *, rounds: bool = True, **series: object
) -> Readings:
    """Readings from a list of visits, each a list of runs, for each configuration."""
    rows = [
        (0, c, v if rounds else NO_ROUND, v * len(sides) + c, value)
        for c, visits in enumerate(sides.values())
        for v, runs in enumerate(visits)
        for value in runs
    ]
    values = {"unit": "W", "better": "higher", "margin": 0.02, **series}
    declared = Series("flight", "score", **values)  # type: ignore[arg-type]
    return make_readings([declared], tuple(sides), *zip(*rows, strict=True))


def columns(readings: Readings) -> dict[str, np.ndarray]:
    values = {field.name: getattr(readings, field.name) for field in fields(readings)}
    return {name: v for name, v in values.items() if isinstance(v, np.ndarray)}


@given(st.lists(st.tuples(st.integers(0, 70_000), st.floats(-9, 9)), min_size=1, max_size=60))
def test_stretches_are_sorted_and_summarised_as_numpy_does(rows: list[tuple[int, float]]) -> None:
    label, value = (np.array(column) for column in zip(*rows, strict=True))
    order = sort_within(value, label)
    assert np.array_equal(value[order], value[np.lexsort((value, label))])
    stretches = find_segments([label[order]])
    groups = [value[label == key] for key in np.unique(label)]
    assert stretches.counts.tolist() == [len(group) for group in groups]
    assert stretches.median(value[order]) == pytest.approx([np.median(g) for g in groups])
    assert stretches.mean(value[order]) == pytest.approx([g.mean() for g in groups])
    spread = [g.var(ddof=1) if len(g) > 1 else np.nan for g in groups]
    assert stretches.variance(value[order]) == pytest.approx(spread, nan_ok=True, abs=1e-12)


VALUES = st.lists(st.floats(0.5, 2.0), min_size=2, max_size=20).filter(lambda v: np.std(v) > 1e-4)


@settings(max_examples=50, deadline=None)
@given(VALUES)
def test_paired_rounds_agree_with_scipy(values: list[float]) -> None:
    base = [1 + 0.1 * np.sin(n) for n in range(len(values))]
    sides = {
        "base": [[b] for b in base],
        "other": [[b * v] for b, v in zip(base, values, strict=True)],
    }
    (ours,) = effects_of(readings_of(sides))
    theirs = stats.ttest_1samp(np.log(values), 0)
    interval = np.array(theirs.confidence_interval(0.95), dtype=float)
    assert ours.shift.p_value == pytest.approx(theirs.pvalue, rel=1e-6, abs=1e-12)
    assert (ours.low, ours.high) == pytest.approx(np.expm1(interval), rel=1e-6, abs=1e-9)
    assert (ours.method, ours.rounds) == (Method.PAIRED, len(values))


@settings(max_examples=50, deadline=None)
@given(VALUES, VALUES, st.booleans())
def test_visits_without_rounds_agree_with_welch(
    base: list[float], other: list[float], rounds: bool
) -> None:
    sides = {"base": [[v] for v in base], "other": [[v] for v in other]}
    readings = readings_of(sides, rounds=rounds)
    (ours,) = effects_of(readings, Setting(interleaved=not rounds))
    logs = np.log(other), np.log(base)
    theirs = stats.ttest_ind(*logs, equal_var=False)
    # Where the design has fewer degrees if all visits vary alike, the geometric mean.
    shares = np.array([1 / len(side) for side in logs])
    alike = shares.sum() ** 2 / np.sum(shares**2 / [len(side) - 1 for side in logs])
    degrees = np.sqrt(theirs.df * min(theirs.df, alike))
    p_value = 2 * stats.t.sf(abs(theirs.statistic), degrees)
    error = np.sqrt(sum(np.var(side, ddof=1) / len(side) for side in logs))
    half = stats.t.ppf(0.975, degrees) * error
    apart = logs[0].mean() - logs[1].mean()
    assert ours.shift.p_value == pytest.approx(p_value, rel=1e-6, abs=1e-12)
    ends = np.expm1([apart - half, apart + half])
    assert (ours.low, ours.high) == pytest.approx(ends, rel=1e-6, abs=1e-9)
    assert ours.method is Method.VISITS
    assert "not-interleaved" in {caveat.code for caveat in ours.caveats}


def test_the_sleep_data_give_the_published_result() -> None:
    # Student (1908), The probable error of a mean, Biometrika 6, table on page 20: hours of
    # sleep gained by ten patients with two drugs; t = 4.0621, p = 0.002833 in textbooks since.
    first = [0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0]
    second = [1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4]
    (effect,) = effects_of(
        readings_of({"base": [[v] for v in first], "other": [[v] for v in second]}, unit="h")
    )
    assert effect.change == pytest.approx(1.58)
    assert effect.shift.p_value == pytest.approx(0.002833, abs=5e-7)
    assert (effect.low, effect.high) == pytest.approx((0.7001, 2.4599), abs=5e-5)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.floats(0, 1), min_size=1, max_size=40), st.integers(0, 3))
def test_holm_agrees_with_statsmodels_and_skips_the_unknown(p: list[float], unknown: int) -> None:
    adjusted, _ = adjust_holm(np.array([np.nan] * unknown + p))
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
    effect, sd = np.array([0.05, 0.0001, 0.05]), np.array([0.03, 1.0, np.nan])
    needed = rounds_to_decide(effect, sd, np.full(3, 0.02), alpha=np.full(3, 0.05))
    first = int(needed[0])
    assert power_difference(0.05, 0.03, first) >= 0.8 > power_difference(0.05, 0.03, first - 1)
    assert needed[1:].tolist() == [0, 0]


def test_an_inconclusive_effect_tells_how_many_rounds_it_needs() -> None:
    rng = np.random.default_rng(3)
    readings = simulate(rng, rounds=4, run_sd=0.01, visit_sd=0.01, drift=0.0, names=NAMES)
    effects = [e for e in effects_of(readings) if e.verdict is Verdict.INCONCLUSIVE]
    assert effects and all(e.more_rounds and e.more_rounds < MOST_ROUNDS for e in effects)
    # The spread is pooled over all configurations: nearly the same need follows for both.
    (components,) = estimate_components(readings, "base")
    assert components is not None
    assert len(effects) == 2
    effect = min(effects, key=lambda e: e.shift.p_value)  # the one that Holm multiplies by two
    arguments = (effect.shift.mean, components.round_sd, np.log1p(0.02))
    needed = rounds_to_decide(*(np.array([a]) for a in arguments), alpha=np.array([0.025]))
    assert effect.more_rounds == int(needed[0]) - 4
    hopeless = readings_of({"base": [[1.0], [2.0]], "other": [[2.001], [1.0]]})
    (beyond,) = effects_of(hopeless)
    assert beyond.more_rounds is None and beyond.out_of_reach


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


def test_what_medians_of_runs_vary_by_is_not_taken_for_visits() -> None:
    rng = np.random.default_rng(12)
    found = []
    for _ in range(150):
        study = simulate(rng, rounds=20, runs=3, visit_sd=0.0, drift=0.0)
        (components,) = estimate_components(study, "base")
        assert components is not None
        found.append(components.visit_variance / 0.02**2)
    # Its own sampling, cut off at zero, leaves 0.06; the variance of means would leave 0.14.
    assert np.mean(found) < 0.09


def test_more_rounds_are_those_of_a_look_that_is_enough() -> None:
    rng = np.random.default_rng(13)
    needed = set()
    for _ in range(40):
        study = simulate(rng, rounds=5, runs=1, change=0.02, run_sd=0.01, visit_sd=0.01)
        setting = Setting(looks=plan_looks(20), looks_taken={"node": (5,)})
        (effect,) = estimate_effects(study, "base", setting)
        if effect.verdict is Verdict.INCONCLUSIVE:
            needed.add(None if effect.more_rounds is None else 5 + effect.more_rounds)
            assert effect.open_until == 8
            assert effect.out_of_reach is (effect.more_rounds is None)
    assert needed <= {8, 13, 20, None} and len(needed) > 2


def test_one_visit_has_an_interval_from_the_noise_floor_alone() -> None:
    rng = np.random.default_rng(4)
    covered = []
    for _ in range(400):
        floor = estimate_floor(simulate(rng, rounds=10, drift=0.0), Arm(0, 0, 0), ("ratio",))
        assert floor is not None and floor.degrees == 9
        once = simulate_once(rng, change=0.05)
        setting = Setting(interleaved=False, noise_floors={("node", once.series[0]): floor})
        (effect,) = effects_of(once, setting)
        assert effect.method is Method.FLOOR
        covered.append(effect.low <= 0.05 <= effect.high)
    assert 0.92 < np.mean(covered) < 0.98
    (bare,) = effects_of(once, Setting(interleaved=False))
    assert bare.verdict is Verdict.SEEN_ONCE and np.isnan(bare.low)
    assert bare.change == effect.change
    (caveat,) = [c for c in bare.caveats if c.code == "one-visit"]
    assert "runs vary by" in seen_text(caveat) and "no interval" in seen_text(caveat)
    # Within rounds of which one pairs, the study's own visits to the baseline serve.
    rounds = simulate(rng, rounds=6, drift=0.0, change=0.5)
    lone = rounds.select((rounds.configuration_of == 0) | (rounds.round_of == 2))
    (effect,) = effects_of(lone, Setting(floor_arm="base"))
    assert effect.method is Method.FLOOR and effect.verdict is Verdict.BETTER


def two_sides(
    floor: NoiseFloor, visits: tuple[int, int], runs: tuple[int, int]
) -> tuple[float, float]:
    sides = zip((1.0, -1.0), visits, runs, strict=True)
    return floor_error([SideOfFloor(floor, weight, n, k) for weight, n, k in sides])


def test_the_floor_is_taken_to_another_number_of_runs() -> None:
    # By hand: visits 4, runs 6, so that visits of 2 runs vary by 4 + 6 / 2.
    floor = NoiseFloor("ratio", 4 + 6 / 2, 9, 2, 6.0, 10, "by hand")
    error, degrees = two_sides(floor, (1, 1), (2, 2))
    assert (error**2, degrees) == pytest.approx((2 * 7, 9))
    error, degrees = two_sides(floor, (1, 1), (1, 1))
    assert error**2 == pytest.approx(2 * (4 + 6))
    # Satterthwaite, by hand: 10² / (7² / 9 + 3² / 10) is 15.8, more than the floor's 9.
    assert degrees == 9
    error, degrees = two_sides(floor, (2, 1), (2, 2))
    assert error**2 == pytest.approx(7 / 2 + 7)
    rough = NoiseFloor("ratio", 7.0, 9, 2, 6.0, 1, "by hand")
    assert two_sides(rough, (1, 1), (1, 1))[1] == pytest.approx(100 / (49 / 9 + 9))


def test_families_hold_their_error_rate_and_primary_and_control_are_their_own() -> None:
    rng = np.random.default_rng(6)
    studies = [effects_of(simulate(rng, metrics=6, names=NAMES, runs=1)) for _ in range(120)]
    assert np.mean([any(e.verdict in CHANGED for e in study) for study in studies]) < 0.1
    readings = simulate(rng, metrics=4, names=NAMES)
    first = Series("flight", "m0", "fps", "higher", 0.02, role="primary")
    lone = replace(readings, series=(first, *readings.series[1:]))
    effects = effects_of(lone, Setting(control="third"))
    by_name = {(e.series.metric, e.configuration): e for e in effects}
    alone = by_name["m0", "other"]
    assert alone.p_adjusted == alone.shift.p_value
    assert by_name["m1", "other"].p_adjusted > by_name["m1", "other"].shift.p_value
    control = [e for e in effects if e.control]
    assert [e.configuration for e in control] == ["third"] * 4
    smallest = min(control, key=lambda e: e.shift.p_value)
    assert smallest.p_adjusted == pytest.approx(min(1.0, 4 * smallest.shift.p_value))


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**32 - 1), st.booleans())
def test_results_do_not_depend_on_the_order_of_rows_nor_change_them(
    seed: int, interleaved: bool
) -> None:
    rng = np.random.default_rng(seed)
    readings = simulate(rng, metrics=2, names=NAMES, rounds=3)
    before = {name: value.copy() for name, value in columns(readings).items()}
    shuffled = readings.select(rng.permutation(len(readings.value)))

    def judged(these: Readings) -> str:
        effects = effects_of(these, Setting(interleaved=interleaved))
        return repr(add_caveats(effects, these, Setting(interleaved=interleaved), {}))

    assert judged(shuffled) == judged(readings)
    assert repr(tabulate(shuffled)) == repr(tabulate(readings))
    assert all(np.array_equal(before[k], v, equal_nan=True) for k, v in columns(readings).items())


def test_looking_until_decided_finds_no_more_than_there_is() -> None:
    rng = np.random.default_rng(8)
    setting = Setting(looks=plan_looks(20))
    studies = [simulate(rng, rounds=20, runs=1, run_sd=0.01, visit_sd=0.01) for _ in range(250)]
    effects = [effects_of(study, setting)[0] for study in studies]
    assert np.mean([e.verdict in CHANGED for e in effects]) < 0.085
    assert np.mean([e.verdict is Verdict.EQUIVALENT for e in effects]) > 0.8
    # A verdict stands from the look at which it was reached, whatever comes after.
    early = [s for s in studies if effects_of(s.up_to_round(8), setting)[0].verdict == "equivalent"]
    assert early
    for study in early[:20]:
        late = (study.round_of > 8) & (study.configuration_of == 1)
        turned = replace(study, value=study.value * np.where(late, 2, 1))
        assert effects_of(turned, setting)[0].verdict is Verdict.EQUIVALENT


def test_components_are_found_again_and_say_how_many_runs_are_best() -> None:
    rng = np.random.default_rng(9)
    readings = simulate(rng, rounds=800, runs=4, run_sd=0.02, visit_sd=0.01, names=NAMES)
    (found,) = estimate_components(readings, "base")
    assert found is not None
    assert found.run_variance == pytest.approx(4e-4, rel=0.1)
    # The median of 4 normal readings varies a little more than their mean does.
    assert found.visit_variance == pytest.approx(1e-4, rel=0.3)
    assert found.round_sd**2 == pytest.approx(2 * (1e-4 + 1.19 * 1e-4), rel=0.12)
    assert best_runs(400.0, 100.0, 4e-4, 1e-4) == 4
    assert best_runs(1.0, 100.0, 4e-4, 1e-4) == 1
    assert best_runs(1.0, 1.0, 1.0, 0.0) is None


def test_visits_are_summarised_by_median_or_mean_and_rounds_pair() -> None:
    # By hand: medians 10 and 20 in round 0, means of logs in round 1, round 2 does not pair.
    base = [[10.0, 10.0, 99.0], [8.0, 2.0], [5.0]]
    other = [[20.0, 1.0, 20.0], [4.0, 4.0]]
    (effect,) = effects_of(readings_of({"base": base, "other": other}))
    assert effect.change == pytest.approx(np.sqrt(2.0 * 1.0) - 1)
    assert (effect.rounds, effect.runs, effect.base_runs) == (2, 10, 5)
    assert {c.code for c in effect.caveats} >= {"few-rounds", "unpaired-rounds"}
    (row,) = tabulate(readings_of({"base": base, "other": other}))
    cells = [cell for cell in row if cell is not None]
    assert cells[1].centre == pytest.approx(np.sqrt(20 * 4))
    assert cells[0].cv == pytest.approx(stats.variation([10, 10, 99, 8, 2, 5], ddof=1))


def paired_study(arms: int, rng: np.random.Generator, rounds: int = 7) -> np.ndarray:
    """Readings of single runs, by round and arm, that share a disturbance of their round."""
    shared = rng.normal(0, 0.5, (rounds, 1))
    values: np.ndarray = np.exp(3 + shared + rng.normal(0, 0.05, (rounds, arms)))
    return values


def as_readings(
    values: np.ndarray, arms: list[tuple[int, int, int]], *, rounds: bool = True
) -> Readings:
    """Each column of the values as the arm of that series, bench and configuration."""
    number = np.arange(len(values))
    columns = [
        np.concatenate(parts)
        for parts in zip(
            *(
                (
                    np.full(len(values), s), np.full(len(values), b), np.full(len(values), c),
                    number + 1 if rounds else np.full(len(values), NO_ROUND),
                    # Metrics of one run share their visit.
                    number * 100 + b * 10 + c, values[:, n],
                )
                for n, (s, b, c) in enumerate(arms)
            ),
            strict=True,
        )
    ]  # fmt: skip
    s, b, c, r, v = (column.astype(np.int64) for column in columns[:5])
    series = tuple(Series("flight", f"m{n}", "fps", "higher", 0.02) for n in range(2))
    nothing = np.zeros(len(v))
    return Readings(
        ("node", "lobby"),
        series,
        NAMES,
        s,
        b,
        c,
        r,
        v,
        v,
        columns[5],
        nothing * np.nan,
        nothing,
        np.zeros(len(v), dtype=np.int64),
        nothing * np.nan,
    )


def judged(
    readings: Readings, weights: list[tuple[tuple[int, int, int], float]], **setting: Any
) -> Estimate:
    contrast = Contrast(tuple((Arm(*place), weight) for place, weight in weights), "alone")
    return judge_contrasts(readings, [contrast], Setting(**setting))[0]


def shift_of(estimate: Estimate) -> list[float]:
    shift = estimate.shift
    return [shift.mean, shift.low, shift.high, shift.p_value]


FOUR = [(0, 0, 0), (0, 0, 1), (1, 0, 0), (1, 0, 1)]
WEIGHTS = [1.0, -1.0, -1.0, 1.0]


def test_weighted_contrasts_of_arms_are_t_tests_of_weighted_sums() -> None:
    """A ratio of ratios: by round, or from visits whose metrics are of the same runs."""
    values = paired_study(4, np.random.default_rng(20))
    sums = np.log(values) @ WEIGHTS
    by_round = judged(as_readings(values, FOUR), list(zip(FOUR, WEIGHTS, strict=True)))
    theirs = stats.ttest_1samp(sums, 0)
    ends = theirs.confidence_interval(0.95)
    assert by_round.method is Method.PAIRED and by_round.rounds == 7
    assert shift_of(by_round) == pytest.approx([sums.mean(), ends.low, ends.high, theirs.pvalue])
    apart = judged(as_readings(values, FOUR, rounds=False), list(zip(FOUR, WEIGHTS, strict=True)))
    sides = [np.log(values[:, 0]) - np.log(values[:, 2]), np.log(values[:, 1] / values[:, 3])]
    welch = stats.ttest_ind(*sides, equal_var=False)
    assert apart.method is Method.VISITS
    assert apart.shift.mean == pytest.approx(sums.mean())
    assert (apart.shift.p_value, apart.shift.degrees) == pytest.approx((welch.pvalue, welch.df))


def test_contrasts_between_benches_add_what_is_independent() -> None:
    """The effect on one bench minus that on another: paired on each, Welch between them."""
    rng = np.random.default_rng(21)
    arms = [(0, 0, 0), (0, 0, 1), (0, 1, 0), (0, 1, 1)]
    values = paired_study(4, rng)
    values[:, 2:] = paired_study(2, rng)  # another disturbance in the same rounds
    estimate = judged(as_readings(values, arms), list(zip(arms, WEIGHTS, strict=True)))
    effects = [np.log(values[:, n] / values[:, n + 1]) for n in (0, 2)]
    welch = stats.ttest_ind(*effects, equal_var=False)
    assert estimate.shift.mean == pytest.approx(effects[0].mean() - effects[1].mean())
    assert (estimate.shift.p_value, estimate.shift.degrees) == pytest.approx(
        (welch.pvalue, welch.df)
    )
    both = estimate_effects(as_readings(values, arms), "base", Setting())
    assert [effect.bench for effect in both] == ["node", "lobby"]
    assert [e.shift.mean for e in both] == pytest.approx([-e.mean() for e in effects])
    one_family = adjust_holm(np.array([e.shift.p_value for e in both]))[0]
    assert [e.p_adjusted for e in both] == pytest.approx(one_family)


def test_arms_that_are_missing_and_scales_that_differ_have_no_contrast() -> None:
    values = paired_study(4, np.random.default_rng(22))
    readings = as_readings(values, FOUR)
    absent = [((0, 0, 0), 1.0), ((0, 1, 0), -1.0)]
    contrast = Contrast(tuple((Arm(*place), weight) for place, weight in absent), "alone")
    assert judge_contrasts(readings, [contrast], Setting()) == {}
    negative = replace(readings, value=np.where(readings.series_of == 1, -1.0, readings.value))
    with pytest.raises(ValueError, match="m0, m1 are on different scales"):
        judged(negative, [((0, 0, 0), 1.0), ((1, 0, 0), -1.0)])


def test_looks_share_their_level_within_families() -> None:
    rng = np.random.default_rng(23)
    readings = simulate(rng, rounds=5, metrics=4, change=0.04, visit_sd=0.01, names=NAMES)
    looks = plan_looks(20)
    effects = effects_of(readings, Setting(looks=looks))
    p_values = np.array([e.shift.p_value for e in effects])
    expected = np.minimum(1.0, adjust_holm(p_values)[0] * 0.05 / looks.alpha)
    assert [e.p_adjusted for e in effects] == pytest.approx(expected)
    assert np.sum((expected > 1.5 * p_values * 0.05 / looks.alpha) & (expected < 1)) > 2


@pytest.mark.parametrize("runs", [1, 2, 3, 4, 9])
def test_a_noise_floor_is_carried_to_visits_of_other_lengths(runs: int) -> None:
    """Medians of three and more vary more than means of as many: by simulation."""
    draws = np.random.default_rng(24).normal(0, 1, (60_000, runs))
    summaries = draws.mean(axis=1) if runs < 3 else np.median(draws, axis=1)
    floor = NoiseFloor("ratio", 4 + 1 / 2, 10_000, 2, 1.0, 10_000, "by hand")
    error, _ = two_sides(floor, (1, 1), (runs, runs))
    assert error**2 / 2 == pytest.approx(4 + summaries.var(), rel=0.01)


def test_a_noise_floor_counts_the_mean_number_of_runs() -> None:
    visits = [[10.0] * 2, [10.1] * 2, [10.2] * 2, [10.3] * 6]
    floor = estimate_floor(readings_of({"base": visits}), Arm(0, 0, 0), ("ratio",))
    assert floor is not None and floor.runs == 3.0


def test_lower_is_better_turns_the_verdict_and_not_the_change() -> None:
    sides = {
        "base": [[10.0], [10.1], [9.9], [10.0], [10.2]],
        "other": [[8.0], [8.1], [8.0], [7.9], [8.2]],
    }
    (higher,) = effects_of(readings_of(sides))
    (lower,) = effects_of(readings_of(sides, better="lower"))
    assert higher.change == lower.change < 0
    assert (higher.verdict, lower.verdict) == (Verdict.WORSE, Verdict.BETTER)
    assert higher.beyond_margin


@pytest.mark.parametrize(
    ("base", "other", "code", "verdict"),
    [
        ([[10.0]], [[12.0]], "one-visit", Verdict.SEEN_ONCE),
        ([[0.0], [1.0], [0.5]], [[7.0], [7.5], [9.0]], "difference-scale", Verdict.BETTER),
        # Whole numbers: each may be off by a half.
        ([[10.0]] * 5, [[10.0]] * 5, "no-spread", Verdict.INCONCLUSIVE),
        ([[1000.0]] * 5, [[1000.0]] * 5, "no-spread", Verdict.EQUIVALENT),
        ([[10.0]] * 5, [[12.0]] * 5, "no-spread", Verdict.BETTER),
        # Finer than nine decimals, so that there is no step to go by.
        ([[1 / 3]] * 5, [[2 / 3]] * 5, "no-spread", Verdict.INCONCLUSIVE),
    ],
)
def test_degenerate_data_get_a_caveat(
    base: list[list[float]], other: list[list[float]], code: str, verdict: Verdict
) -> None:
    (effect,) = effects_of(readings_of({"base": base, "other": other}))
    assert code in {caveat.code for caveat in effect.caveats}
    assert effect.verdict is verdict


def test_equivalence_comes_before_difference_and_can_be_in_the_unit() -> None:
    steady = {"base": [[10.0], [10.01], [10.0], [9.99]], "other": [[10.1], [10.1], [10.1], [10.1]]}
    (effect,) = effects_of(readings_of(steady))
    assert effect.shift.p_value < 0.01 and effect.verdict is Verdict.EQUIVALENT
    around_zero = {"base": [[-1.0], [0.1], [1.0], [0.4]], "other": [[-0.9], [0.2], [1.2], [0.4]]}
    (effect,) = effects_of(readings_of(around_zero, unit_margin=0.5))
    assert (effect.scale, effect.verdict) == ("difference", Verdict.EQUIVALENT)
    assert "difference-scale" not in {caveat.code for caveat in effect.caveats}
    assert effects_of(readings_of(around_zero, unit_margin=0.1))[0].verdict is Verdict.INCONCLUSIVE


@given(st.integers(1, 40), st.integers(2, 6), st.integers(0, 99))
def test_rounds_are_whole_mirrored_and_never_change_when_extended(
    rounds: int, count: int, seed: int
) -> None:
    names = [f"c{i}" for i in range(count)]
    visits = plan_rounds(names, rounds, seed)
    order = {r: [v.configuration for v in visits if v.round == r] for r in range(1, rounds + 1)}
    assert all(sorted(names_of_round) == names for names_of_round in order.values())
    assert all(order[r] == order[r - 1][::-1] for r in range(2, rounds + 1, 2))
    assert plan_rounds(names, rounds + 3, seed)[: len(visits)] == visits


def test_orders_are_shuffled_over_pairs_and_by_seed() -> None:
    first = {tuple(v.configuration for v in plan_rounds(NAMES, 1, s)) for s in range(60)}
    assert len(first) == 6
