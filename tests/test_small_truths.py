"""Lines on which a verdict hangs, each held against a formula or a truth small enough to see.

Degrees of freedom, what tests share a level with, what is of another bench, and the second of
anything.
"""

from __future__ import annotations

import math
import random
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
import statsmodels.api as sm
from scipy import special, stats

from conftest import Ferocal
from ferocal.analysis.caveats.circumstances import Conditions
from ferocal.analysis.caveats.comparability import _contexts, _paired
from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.caveats.table import add_caveats
from ferocal.analysis.data.index import index_weights
from ferocal.analysis.data.readings import NO_ROUND, Readings, concatenate, summarise_visits
from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.questions import _differ
from ferocal.analysis.inference import special as own_functions
from ferocal.analysis.inference.contrasts import widen
from ferocal.analysis.inference.effects import Effect, Setting, control_failures
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.noise_floors import (
    NoiseFloor,
    SideOfFloor,
    floor_error,
    pool_floors,
)
from ferocal.analysis.inference.sides import carry_most
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.rank.lineup import Contestant, _levels
from ferocal.analysis.rank.standings import rank_contestants
from ferocal.analysis.series.chance import chances_of_none
from ferocal.analysis.series.course import Course, find_courses
from ferocal.analysis.series.fit import Fit
from ferocal.analysis.series.place import locate
from ferocal.analysis.series.shapes import Shape
from ferocal.answers import compare as comparing
from ferocal.answers.circumstances import find_busy
from ferocal.answers.release_line import newest_and
from ferocal.errors import UsageError
from ferocal.intake.forms import NumberForm
from ferocal.intake.tables.summaries import Numbers, is_change, sums_up
from ferocal.ledger.reading.runs import read_values
from ferocal.ledger.reading.visits import read_visits
from ferocal.ledger.records import Ending, Outcome, SessionRecord, Slot, Value, VisitRecord
from ferocal.ledger.writing.merge import merge_ledgers
from ferocal.ledger.writing.opening import open_ledger
from ferocal.ledger.writing.runs import Recorder
from ferocal.ledger.writing.store import WritableLedger
from ferocal.measure.settle import _look_for_others
from ferocal.study.load import load_study
from simulation import make_readings, simulate
from studies import make_effect

Study = Callable[..., Ferocal]
SERIES = Series("flight", "score", "points", "higher", 0.02)


def test_special_functions_are_the_public_ones() -> None:
    for name in own_functions._NAMES:
        assert getattr(own_functions, name) is getattr(special, name)


# Degrees of freedom ------------------------------------------------------------------------------


def test_a_known_uncertainty_adds_degrees_by_welch_and_satterthwaite() -> None:
    error, known, degrees = np.array([0.3, 0.3, np.nan]), np.array([0.4, 0.0, 0.4]), 5.0
    table: Any = SimpleNamespace(error=error.copy(), degrees=np.full(3, degrees), fixed=np.zeros(3))
    widen(table, known)
    assert table.error == pytest.approx([0.5, 0.3, np.nan], nan_ok=True)
    # The sum of squares squared over the sum of squared squares by their degrees (GUM, G.4.1).
    assert table.degrees[:2] == pytest.approx([0.25**2 / (0.09**2 / degrees), degrees])


def test_a_pooled_noise_floor_is_the_variance_within_configurations() -> None:
    rng = np.random.default_rng(4)
    groups = [np.log(100 * np.exp(rng.normal(0, 0.02, n))) for n in (3, 5, 4)]
    rows = [(0, c, NO_ROUND, value) for c, group in enumerate(groups) for value in np.exp(group)]
    s, c, r, value = zip(*rows, strict=True)
    readings = make_readings([SERIES], ("a", "b", "c"), s, c, r, range(len(rows)), value)
    # The last visits are those to b, so that it is the youngest of them.
    time = np.array([0.0] * 3 + [9.0] * 5 + [4.0] * 4)
    floor = pool_floors(replace(readings, time=time), 0, 0, ("ratio",))
    assert floor is not None
    within = sum(float(np.sum((g - g.mean()) ** 2)) for g in groups)
    assert (floor.degrees, floor.age) == (9, 0.0)
    assert floor.variance == pytest.approx(within / 9)


def test_two_sides_with_noise_floors_have_the_degrees_of_the_worse_known() -> None:
    floors = [
        NoiseFloor("ratio", variance, degrees, 3.0, math.nan, 0, "floor", 0.0)
        for variance, degrees in ((0.0004, 12), (0.0009, 5))
    ]
    sides = [SideOfFloor(floors[0], 1.0, 2, 3.0), SideOfFloor(floors[1], -1.0, 3, 3.0)]
    for order in (sides, sides[::-1]):
        error, degrees = floor_error(order)
        assert error == pytest.approx(math.sqrt(0.0004 / 2 + 0.0009 / 3))
        assert degrees == 5


def test_pairs_carry_most_from_two_and_half_of_the_fewer_side_on() -> None:
    pairs, fewest = np.array([2, 2, 2, 1, 1, 0]), np.array([3, 4, 5, 2, 1, 1])
    assert carry_most(pairs, fewest).tolist() == [True, True, False, False, True, False]


def test_conditions_of_rounds_differ_as_a_paired_t_test_says() -> None:
    rng = np.random.default_rng(1)
    here, there = rng.normal(60, 1, 5), rng.normal(61, 1, 5)
    both = Conditions(
        configurations=("base", "other"),
        configuration_of=np.repeat([1, 0], 5), round_of=np.tile(np.arange(5), 2),
        numbers={}, words={},
    )  # fmt: skip
    difference, p_value = _paired(both, np.r_[here, there], 1, 0)
    assert difference == pytest.approx(float(np.mean(here - there)))
    assert p_value == pytest.approx(stats.ttest_rel(here, there).pvalue)


def test_a_drift_has_the_p_value_of_least_squares() -> None:
    rounds = 6
    readings = simulate(np.random.default_rng(8), rounds=rounds, runs=1, run_sd=0.0, drift=0.4)
    position = np.argsort(np.argsort(readings.visit_of)).astype(float)
    arms = readings.configuration_of == 1
    columns = np.column_stack([np.ones(len(position)), arms, position])
    expected = sm.OLS(np.log(readings.value), columns).fit()
    effects = estimate_effects(readings, "base", Setting())
    (effect,) = add_caveats(effects, readings, Setting(), {"node": Context()})
    (drift,) = [caveat for caveat in effect.caveats if caveat.code == "drift"]
    assert drift.values["p"] == pytest.approx(expected.pvalues[2], rel=1e-6)


@pytest.mark.parametrize("count", [7, 24])
def test_chances_of_steps_are_the_same_in_any_unit(count: int) -> None:
    """However large: 32 bits hold no more than 3e38."""
    values = np.random.default_rng(9).normal(0, 1, count)
    chances = []
    for factor in (1.0, 2.0**-140, 2.0**140):
        at = range(count)
        columns = ([0] * count, at, [NO_ROUND] * count, at, (factor * values).tolist())
        readings = make_readings([SERIES], [f"r{n}" for n in at], *columns)
        chances.append(chances_of_none(list(find_courses(readings, 0, at, interleaved=False))))
    assert chances[0].tolist() == chances[1].tolist() == chances[2].tolist()


# What shares a level -----------------------------------------------------------------------------


def test_the_control_arm_alarms_at_its_level_only() -> None:
    effect = replace(make_effect(SERIES, "control +9.0±1.5"), control=True)
    alarms = [control_failures([replace(effect, p_adjusted=p)]) for p in (0.009, 0.011, 0.04)]
    assert [len(found) for found in alarms] == [1, 0, 0]
    assert not control_failures([replace(effect, p_adjusted=0.001, control=False)])


def test_all_contexts_share_one_level() -> None:
    series = [Series("flight", f"c{n}", "MHz", "none", math.nan) for n in range(2)]
    score = make_effect(SERIES, "r64 +3.0±1.5")
    contexts = [
        replace(make_effect(s, "r64 +9.0±1.5"), shift=replace(score.shift, p_value=0.008, mean=0.1))
        for s in series
    ]
    view: Any = SimpleNamespace(effects=[score, *contexts], baseline="r61")
    assert not list(_contexts(view, contexts, 0.01))
    assert [found.effects for found in _contexts(view, contexts[:1], 0.01)] == [[0, 2]]


def outliers_of(values: np.ndarray, others: int) -> set[str]:
    """Metrics with a caveat of outliers: one with an arm of these values, and so many without."""
    count = len(values)
    bases = [values if s == 0 else np.roll(PLAIN, s) for s in range(others + 1)]
    sides = [np.r_[base, np.roll(PLAIN, s + 1)] for s, base in enumerate(bases)]
    columns = (
        np.repeat(np.arange(others + 1), 2 * count),
        np.tile(np.repeat([0, 1], count), others + 1),
        np.tile(np.arange(count), 2 * (others + 1)),
        np.tile(np.arange(2 * count), others + 1),
        np.exp(np.concatenate(sides)),
    )
    series = [replace(SERIES, metric=f"m{s}") for s in range(others + 1)]
    readings = make_readings(series, ("base", "other"), *(c.tolist() for c in columns))
    effects = estimate_effects(readings, "base", Setting())
    found = add_caveats(effects, readings, Setting(), {"node": Context()})
    return {e.series.metric for e in found for c in e.caveats if c.code == "outliers"}


PLAIN = np.random.default_rng(3).normal(0, 0.01, 24)


def test_an_outlier_is_as_far_as_the_largest_of_all_readings_may_be() -> None:
    """The level is shared by both sides of every reading, of every arm."""
    count, level = len(PLAIN), 0.01 / 2
    scale = float(np.median(np.abs(np.diff(np.r_[PLAIN[:5], PLAIN[6:]])))) / (
        math.sqrt(2) * stats.norm.ppf(0.75)
    )
    quantile = float(t_quantile(0.37 * (count - 1) + 1.5, 1 - level / count / 2))
    edge = 1.08 * quantile * scale
    found = []
    for factor in (0.8, 1.25):
        values = PLAIN.copy()
        values[5] = float(np.median(PLAIN)) + factor * edge
        found.append(outliers_of(values, 0))
    assert found == [set(), {"m0"}]
    # Among a hundred others the same is nothing that chance could not do.
    assert outliers_of(values, 99) == set()


# One beside another ------------------------------------------------------------------------------


def test_the_metrics_of_a_workload_share_its_weight() -> None:
    series = [replace(SERIES, workload=w, metric=m, weight=k) for w, m, k in
              (("a", "x", 1.0), ("a", "y", 1.0), ("b", "x", 3.0), ("c", "x", 0.0))]  # fmt: skip
    assert index_weights(series, [0, 1, 2, 3]) == {0: 0.125, 1: 0.125, 2: 0.75}
    assert index_weights(series, [0, 2]) == {0: 0.25, 2: 0.75}
    assert index_weights(series, [3]) == {}


def on_two_benches() -> Readings:
    """A configuration on two benches, read alike on both."""
    one = simulate(np.random.default_rng(2), rounds=6, drift=0.0, names=("base", "other"))
    two = replace(one, bench_of=one.bench_of + 1, visit_of=one.visit_of + 100)
    both = concatenate([one, two])
    return replace(both, benches=("node", "annex"), run_of=np.arange(len(both.value)))


def test_what_is_divided_by_on_one_bench_is_not_on_another() -> None:
    readings = on_two_benches()
    contestants = [Contestant(b, 0, offset) for b, offset in ((0, 0.0), (1, math.log(2)))]
    found = rank_contestants(readings, 0, contestants, Setting())
    assert found is not None
    values = {standing.bench: standing.value for standing in found.standings}
    assert values["annex"] == pytest.approx(2 * values["node"])
    assert [standing.bench for standing in found.standings] == ["annex", "node"]
    assert found.verdicts[0, 1] is Verdict.BETTER and found.verdicts[1, 0] is Verdict.WORSE


def test_only_what_is_open_on_the_bench_at_hand_is_measured_further(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    open_here = replace(make_effect(SERIES, "r64 +1.0±3.0"), verdict=Verdict.INCONCLUSIVE)
    decided = replace(open_here, verdict=Verdict.BETTER)
    for here, there, named in ((open_here, decided, 1), (decided, open_here, 0)):
        effects = [replace(here, bench="node"), replace(there, bench="annex")]
        answer = SimpleNamespace(effects=effects)
        monkeypatch.setattr(comparing, "gather", lambda *_: None)
        monkeypatch.setattr(comparing, "compare", lambda *_, answer=answer: answer)
        study: Any = SimpleNamespace(bench="node")
        ledger: Any = None
        assert len(comparing.name_undecided(study, ledger)) == named


@pytest.mark.parametrize(("visits", "told"), [(1, False), (2, True)])
def test_one_reading_a_side_is_one_visit_whoever_knows_it(visits: int, told: bool) -> None:
    rows = [(0, c, NO_ROUND, 2 * v + c, 100.0 + c + v) for c in (0, 1) for v in range(visits)]
    readings = make_readings([SERIES], ("base", "other"), *zip(*rows, strict=True))
    readings = replace(readings, unknown_arms=frozenset({0, 1}))
    effects: tuple[Effect, ...] = estimate_effects(readings, "base", Setting(interleaved=False))
    found = add_caveats(effects, readings, Setting(interleaved=False), {"node": Context()})
    assert any(c.code == "unknown-visits" for e in found for c in e.caveats) is told


# The second of anything --------------------------------------------------------------------------


def visit_of(bench: str, name: str, number: int) -> VisitRecord:
    return VisitRecord(bench, name, {"driver": name}, number, 1, 0.0, "active", [], [], {}, [])


def record_one(
    recorder: Recorder, bench: str, name: str, value: Value, outcome: Outcome = Outcome.OK
) -> int:
    """Record a visit with one run of one reading; the key of the visit."""
    visit = recorder.begin_visit(visit_of(bench, name, 1))
    run = recorder.begin_run(visit, Slot(1, name, value.workload, 1), 1, warmup=False)
    recorder.end_run(run, Ending(outcome, None, 1.0, [value]))
    return visit


def recorder_of(ledger: WritableLedger) -> Recorder:
    recorder = Recorder(ledger)
    recorder.begin_session(SessionRecord("1", {}, 9, False, "node", "", {}))
    return recorder


def test_readings_of_one_place_are_those_of_no_other(tmp_path: Path) -> None:
    right = Value("flight", "score", "points", 100.0)
    with open_ledger(tmp_path, create=True) as ledger:
        recorder = recorder_of(ledger)
        record_one(recorder, "node", "r61", right)
        record_one(recorder, "annex", "r61", replace(right, value=1.0))
        record_one(recorder, "node", "r64", replace(right, value=2.0))
        record_one(recorder, "node", "r61", replace(right, workload="page", value=3.0))
        record_one(recorder, "node", "r61", replace(right, metric="other", value=4.0))
        record_one(recorder, "node", "r61", replace(right, bound="<", value=5.0))
        record_one(recorder, "node", "r61", replace(right, value=6.0), Outcome.FAILED)
        record_one(recorder, "node", "r61", replace(right, value=101.0))
        assert read_values(ledger, "node", "r61", "flight", "score") == [100.0, 101.0]


def test_a_visit_that_was_set_aside_stays_so_whichever_way_ledgers_are_merged(
    tmp_path: Path,
) -> None:
    places = [tmp_path / name for name in ("a", "b")]
    for place in places:
        place.mkdir()
    value = Value("flight", "score", "points", 100.0)
    with open_ledger(places[0], create=True) as first:
        recorder = recorder_of(first)
        visit = record_one(recorder, "node", "r61", value)
        with open_ledger(places[1], create=True) as second:
            merge_ledgers(second, first)
            recorder.set_aside(visit, [])
            for target, source in ((first, second), (second, first), (first, second)):
                merge_ledgers(target, source)
                assert target is second or [v.state for v in read_visits(target).values()] == [
                    "not active"
                ]
            assert [v.state for v in read_visits(second).values()] == ["not active"]


def test_of_two_corrections_the_later_counts_and_says_what_it_corrects(small_study: Study) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    run = ferocal.json("runs")["run_list"][0]["id"]
    first = ferocal.quick("correct", run, "score", "200", "--reason", "a digit was missing")
    second = ferocal.quick("correct", run, "score", "150", "--reason", "misread again")
    assert "200" in first and "200" in second and "150" in second
    (read,) = ferocal.json("runs")["run_list"][0]["values"].values()
    assert read["value"] == 150
    told = " ".join(ferocal.quick("history").split())
    assert "to 200: a digit was missing" in told and "from 200 to 150: misread again" in told


@pytest.mark.parametrize("copies", [1, 2])
def test_a_recorded_row_stands_for_one_row_of_a_file(small_study: Study, copies: int) -> None:
    ferocal = small_study(rounds=1)
    table = "configuration,workload,metric,value\n" + "off,flight,score,101.5\n" * copies
    (ferocal.directory / "first.csv").write_text(table)
    ferocal.quick("load", "first.csv")
    (ferocal.directory / "second.csv").write_text(table + "off,flight,score,101.5\n")
    ferocal.quick("load", "second.csv", "--only-new")
    values = [v["value"] for r in ferocal.json("runs")["run_list"] for v in r["values"].values()]
    assert values == [101.5] * (copies + 1)


def test_others_that_are_busy_begin_the_wait_anew() -> None:
    def look(others: float | None) -> tuple[tuple[str, ...], float]:
        seen = SimpleNamespace(others=others, resolution=0.01, names=("backup",))
        meter: Any = SimpleNamespace(end=lambda _: seen)
        return _look_for_others(meter, ("before",), 5.0)

    assert look(None) == look(0.001) == (("before",), 5.0)
    names, since = look(0.9)
    assert names == ("backup",) and since > 5.0


def test_a_second_look_is_taken_where_the_first_left_something_open(small_study: Study) -> None:
    noise = random.Random(1)
    numbers = " ".join(f"{noise.gauss(100, 4):.3f}" for _ in range(40))
    command = (
        "n=$(cat count 2>/dev/null || echo 0); echo $((n + 1)) > count; "
        f"set -- {numbers}; shift $n; echo score $1"
    )
    ferocal = small_study(rounds=3, command=command)
    output = ferocal.quick("measure", "--decide", "--rounds", "10")
    assert "look after round 5: still open" in output
    assert "look after round 7: everything is decided" in output
    assert "took 14 runs" in output and "the plan is complete" in output
    assert ferocal.json("compare")["effects"][0]["rounds"] == 7


# Sums of squares ---------------------------------------------------------------------------------


def _course(rng: np.random.Generator, releases: int) -> Course:
    """A course with up to three visits a release, some of them two."""
    visits = rng.integers(1, 4, releases)
    place = np.repeat(np.arange(releases), visits)
    value = rng.normal(0, 1, len(place)) + 0.3 * (place > 3)
    centre = np.bincount(place, value) / visits
    squares = float(np.sum((value - centre[place]) ** 2))
    return Course(
        0, "difference", np.arange(releases), centre, visits, squares, len(place) - releases,
        place, value, np.zeros(len(place), dtype=np.int64),
    )  # fmt: skip


def test_two_more_shapes_reduce_what_is_left_by_what_least_squares_says() -> None:
    course = _course(np.random.default_rng(3), 9)
    first, *others = [Shape("step", n, n + 1) for n in (1, 3, 4, 6)]
    fit = Fit(course, [first])
    place = course.place.astype(float)
    columns = np.array([shape.values(place) for shape in others]).T

    def left(*more: int) -> float:
        known = [np.ones(len(place)), first.values(place), *(columns[:, n] for n in more)]
        model = sm.WLS(course.centre, np.array(known).T, weights=course.visits)
        return float(model.fit().ssr)

    pairs, alone = fit.pair_gains(columns), fit.gains(columns)[0]
    for n in range(len(others)):
        assert alone[n] == pytest.approx(left() - left(n))
        assert pairs[n, n] == -math.inf
        for m in range(n):
            assert pairs[n, m] == pytest.approx(left() - left(n, m))
            assert pairs[m, n] == pairs[n, m]


@pytest.mark.parametrize(
    ("interleaved", "known"), [(False, True), (True, True), (True, False)]
)  # fmt: skip
def test_what_a_contestant_varies_by_is_what_least_squares_leaves(
    interleaved: bool, known: bool
) -> None:
    names = ("a", "b", "c")
    readings = simulate(np.random.default_rng(2), rounds=6, runs=2, names=names)
    # One visit is missing, so that rounds are incomplete.
    readings = readings.select(readings.visit_of != readings.visit_of.max())
    summaries = summarise_visits(readings)
    if not known:  # of a single visit, and rounds tell nothing any more
        summaries = replace(summaries, round_of=np.append(summaries.round_of[:-1], NO_ROUND))
    setting = replace(Setting(), interleaved=interleaved)
    arms = np.unique(summaries.arm_of).tolist()
    level, visits, squares, degrees = _levels(summaries, (0, 0), arms, setting)
    of = np.searchsorted(arms, summaries.arm_of)
    columns = np.eye(len(arms))[of]
    if interleaved and known:
        rounds = np.unique(summaries.round_of, return_inverse=True)[1]
        columns = np.hstack([columns, np.eye(rounds.max() + 1)[rounds][:, 1:]])
    fitted = sm.OLS(summaries.centre, columns).fit()
    assert visits == pytest.approx(np.bincount(of))
    assert level - level[0] == pytest.approx(fitted.params[:3] - fitted.params[0])
    assert squares == pytest.approx(np.bincount(of, fitted.resid**2))
    assert degrees.sum() == pytest.approx(fitted.df_resid)


def test_the_newest_release_is_measured_against_the_last_that_was_visited(tmp_path: Path) -> None:
    levels = "".join(f"[factor.build.level.n{n}]\n" for n in range(1, 5))
    (tmp_path / "study.toml").write_text(
        '[study]\nquestion = "Slower?"\nmargin = "2 %"\n[factor.build]\norder = "file"\n'
        f'{levels}[workload.flight]\ncommand = "true"\n[workload.flight.metric.score]\n'
        'unit = "s"\nbetter = "lower"\nsource = "wall-time"\n'
    )
    study = load_study(tmp_path)
    assert newest_and(study, "previous", {"n1", "n2"}) == ["n4", "n2"]
    assert newest_and(study, "previous", {"n4"}) == ["n4"]
    assert newest_and(study, "n1", ()) == ["n4", "n1"]
    assert newest_and(study, "previous", {"n1", "n2", "n4"}, ["build=n3"]) == ["n3", "n2"]
    for wrong in (["build=n9"], ["build=n3", "build=n2"]):
        with pytest.raises(UsageError, match="takes one level of build"):
            newest_and(study, "previous", {"n1"}, wrong)
    with pytest.raises(UsageError, match="is the newest release"):
        newest_and(study, "n4", ())


@pytest.mark.parametrize(("resolution", "busy"), [(None, 1), (0.02, 1), (0.2, 0)])
def test_others_are_busy_beyond_what_can_be_told(resolution: float | None, busy: int) -> None:
    visits: Any = {1: SimpleNamespace(bench="foyer"), 2: SimpleNamespace(bench="gallery")}
    conditions = {"busy_share_of_others": 0.25, "busiest_others": ["indexer"]}
    if resolution is not None:
        conditions["busy_resolution"] = resolution
    found = find_busy(visits, "foyer", [(1, conditions), (2, conditions), (1, {})])
    assert (found.runs, found.busy, found.stolen) == (1, busy, 0)
    assert found.names == (("indexer",) if busy else ())


def test_where_a_step_is_hangs_on_no_release_that_nobody_measured() -> None:
    rng = np.random.default_rng(6)
    place = np.repeat([1, 2, 4, 5], 3)
    value = rng.normal(0, 1, len(place)) + 4 * (place > 2)
    whole, inner = locate(place, value, 7), locate(place - 1, value, 5)
    assert whole is not None and inner is not None
    # Before the first and behind the last nothing is known of a step.
    assert whole.chance[[0, 5]].tolist() == [0.0, 0.0]
    assert whole.chance[1:5] == pytest.approx(inner.chance)
    assert (whole.change, whole.sd, whole.before) == (inner.change, inner.sd, inner.before)
    # The density of each place by the marginal likelihood, from the residuals themselves.
    logs = []
    for k in (1, 2, 3, 4):
        left, right = value[place <= k], value[place > k]
        rest = sum(float(np.sum((side - side.mean()) ** 2)) for side in (left, right))
        logs.append(-0.5 * math.log(len(left) * len(right)) - (len(value) - 1) / 2 * math.log(rest))
    chance = np.exp(np.array(logs) - max(logs))
    assert whole.chance[1:5] == pytest.approx(chance / chance.sum())


@pytest.mark.parametrize(("fewest", "differ"), [(3, False), (60, True)])
def test_gains_differ_by_the_degrees_of_the_one_that_is_known_least(
    fewest: int, differ: bool
) -> None:
    def judged(mean: float, degrees: float) -> Any:
        half = float(t_quantile(degrees, 0.975)) * 0.02
        return SimpleNamespace(
            shift=SimpleNamespace(mean=mean, low=mean - half, high=mean + half, degrees=degrees),
            mean=mean, series=SERIES,
        )  # fmt: skip

    members = [judged(0.0, 60), judged(0.14, fewest), judged(0.02, 60)]
    gains = np.array([m.mean for m in members])
    ratio = float(np.var(gains, ddof=1)) / 0.02**2
    assert (stats.f.sf(ratio, 2, fewest) < 0.01) == differ
    assert _differ(gains, members) == differ


def test_equal_readings_have_no_spread_at_all(small_study: Study) -> None:
    ferocal = small_study(rounds=3, command="echo score 0.1")
    ferocal.quick("measure")
    for cell in ferocal.json("table")["cells"]:
        assert cell["cv"] == 0.0


# What sums up others -----------------------------------------------------------------------------

SUMS: dict[str, list[Callable[[np.ndarray], np.ndarray]]] = {
    "mean": [lambda v: v.sum(axis=0) / len(v)],
    "median": [lambda v: np.sort(v, axis=0)[len(v) // 2]],
    "geometric mean": [lambda v: stats.gmean(v, axis=0)],
    "sum": [lambda v: v[0] + v[1] + v[2]],
    "minimum": [lambda v: np.sort(v, axis=0)[0]],
    "maximum": [lambda v: np.sort(v, axis=0)[-1]],
    "standard deviation": [
        lambda v: stats.tstd(v, axis=0),
        lambda v: np.sqrt(stats.moment(v, 2, axis=0)),
    ],
    "coefficient of variation": [
        lambda v: 100 * stats.variation(v, axis=0, ddof=1),
        lambda v: stats.variation(v, axis=0, ddof=1),
    ],
}
CHANGES: list[Callable[[np.ndarray, np.ndarray], np.ndarray]] = [
    lambda old, new: 100 * (new - old) / old,
    lambda old, new: (new - old) / old,
    lambda old, new: new - old,
    lambda old, new: new / old,
    lambda old, new: new / old * 100,
    lambda old, new: (old - new) / old * 100,
]


def _as_written(values: np.ndarray, decimals: int) -> Numbers:
    return Numbers.of([f"{value:.{decimals}f}" for value in values], NumberForm())


@pytest.mark.parametrize("kind", SUMS)
def test_a_summary_is_one_by_its_numbers_and_no_other(kind: str) -> None:
    values = np.random.default_rng(7).uniform(100, 300, (3, 8)).round(2)
    columns = [_as_written(row, 2) for row in values]
    for formula in SUMS[kind]:
        summary = formula(values)
        assert sums_up(kind, _as_written(summary, 4), columns)
        assert not sums_up(kind, _as_written(summary * 1.01 + 0.1, 4), columns)
        others = [other for other in SUMS if sums_up(other, _as_written(summary, 4), columns)]
        assert others == [kind]
    assert not sums_up(kind, columns[0], columns[:1])


@pytest.mark.parametrize("number", range(len(CHANGES)))
def test_a_change_is_one_of_two_columns_in_their_order(number: int) -> None:
    values = np.random.default_rng(8).uniform(100, 300, (3, 8)).round(2)
    columns = [_as_written(row, 2) for row in values]
    for old, new in ((0, 1), (2, 0)):
        change = CHANGES[number](values[old], values[new])
        assert is_change(_as_written(change, 4), columns) == (old, new)
        assert is_change(_as_written(change * 1.1 + 3, 4), columns) is None
