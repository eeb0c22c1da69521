"""Plans: schedules, costs, limits and outlooks."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

import pytest
from scipy import stats

from conftest import Ferocal
from ferocal.analysis.inference.components import Components
from ferocal.analysis.inference.power import power_difference, rounds_to_detect
from ferocal.documents.advice import advice_text
from ferocal.errors import StudyFileError, UsageError
from ferocal.measure.campaign import choose_visits
from ferocal.plan.advice import (
    count_comparisons,
    estimate_cost,
    find_answers,
    find_shortcomings,
    foresee,
)
from ferocal.plan.order import count_switches, plan_once, plan_study
from ferocal.study.load import Study, load_study

TEXT = """
[study]
question = "Which is smoother?"
margin = "2 %"
{head}
[factor.driver.level.r61]
takes = "3 min"
verify = [{{ command = "true", equals = "" }}]
[factor.driver.level.r64]
takes = "5 min"
verify = [{{ command = "true", equals = "" }}]
[factor.firmware.level.fw-1]
verify = [{{ command = "true", equals = "" }}]
[factor.firmware.level.fw-2]
[configuration]
{configuration}
[workload.flight]
command = "fly"
warmups = 1
takes = "2 min"
[workload.flight.metric.fps]
unit = "fps"
better = "higher"
source = {{ json = "/fps" }}
{primary}
[workload.flight.metric.power]
unit = "W"
better = "lower"
margin = "10 %"
source = {{ json = "/power" }}
"""
GOOD_ONCE = """
[study]
question = "Which is smoother?"
margin = "2 %"
schedule = "once"
[factor.driver.level.r61]
[factor.driver.level.r64]
[workload.flight.metric.score]
unit = "points"
better = "higher"
[workload.flight.metric.power]
unit = "W"
better = "lower"
margin = "1 W"
"""
TOGETHER = """design = "listed"
baseline = "old"
named.old = { driver = "r61", firmware = "fw-1" }
named.new = { driver = "r64", firmware = "fw-2" }
"""


def study(directory: Path, head: str = "", configuration: str = "", primary: str = "") -> Study:
    text = TEXT.format(head=head, configuration=configuration, primary=primary)
    (directory / "study.toml").write_text(text)
    return load_study(directory)


def test_costs_come_from_durations_seen_else_stated(tmp_path: Path) -> None:
    plan = study(tmp_path, "rounds = 2\nruns = 2", TOGETHER)
    visits = plan_study(plan)
    stated = estimate_cost(plan, visits, {}, None)
    # Four visits of a warm-up and two runs, one or two switches at four minutes on average.
    assert stated.seconds == 4 * 3 * 120 + stated.switches * 240
    assert (stated.visits, stated.runs, stated.warmups) == (4, 8, 4)
    seen = estimate_cost(plan, visits, {"flight": 1.0}, 10.0)
    assert seen.seconds == 12 + 10 * seen.switches


@pytest.mark.parametrize(
    ("head", "order", "switches"),
    [
        ('schedule = "once"', "AB", 1),
        ('schedule = "once"\nvisits = 2', "AABB", 1),
        ('schedule = "return"', "ABA", 2),
        ('schedule = "return"\nvisits = 2', "AABBAA", 2),
    ],
)
def test_schedules_without_rounds(tmp_path: Path, head: str, order: str, switches: int) -> None:
    visits = plan_study(study(tmp_path, head, TOGETHER))
    names = {"old": "A", "new": "B"}
    assert "".join(names[visit.configuration] for visit in visits) == order
    assert count_switches(visits) == switches
    slots = {(visit.round, visit.configuration) for visit in visits}
    assert len(slots) == len(visits)  # each visit has a place of its own in the ledger
    with pytest.raises(UsageError, match="has no rounds"):
        plan_study(study(tmp_path, head, TOGETHER), rounds=3)


@pytest.mark.parametrize(
    ("head", "message"),
    [
        ('schedule = "once"\nrounds = 3', 'schedule = "once" has no rounds'),
        ("visits = 3", "visits need schedule"),
        ('schedule = "return"\ncontrol = true', 'control = true needs schedule = "rounds"'),
        ('schedule = "often"', "'rounds', 'return' or 'once'"),
    ],
)
def test_settings_that_do_not_go_together_are_refused(
    tmp_path: Path, head: str, message: str
) -> None:
    with pytest.raises(StudyFileError) as caught:
        study(tmp_path, head)
    assert message in str(caught.value)


def test_limits_say_what_a_plan_cannot_answer(tmp_path: Path) -> None:
    def limits(head: str = "", configuration: str = "", primary: str = "") -> str:
        plan = study(tmp_path, head, configuration, primary)
        return "\n".join(map(advice_text, find_shortcomings(plan, plan.head.rounds)))

    full = limits()
    assert "6 comparisons share the error rate" in full
    assert "no check verifies firmware=fw-2" in full
    assert "always changed together" not in full
    together = "driver (r64) and firmware (fw-2) always changed together"
    assert together in limits(configuration=TOGETHER)
    assert "share the error rate" not in limits(primary='role = "primary"')
    assert "one visit per configuration gives no interval" in limits("rounds = 1")
    assert "only 3 rounds" in limits("rounds = 3")
    assert "not interleaved" in limits('schedule = "once"')


def test_answers_say_what_a_plan_can_tell(tmp_path: Path) -> None:
    def answers(head: str = "", configuration: str = "") -> str:
        plan = study(tmp_path, head, configuration)
        return "\n".join(map(advice_text, find_answers(plan, plan.head.rounds)))

    assert "with an interval (linear drift cancels)" in answers()
    assert "which factor carries a change: driver, firmware" in answers()
    assert "which factor" not in answers(configuration=TOGETHER)
    assert "only if a noise floor is known" in answers('schedule = "once"')
    assert "agrees with itself (control arm)" in answers("control = true")


def test_a_plan_for_one_visit_each_tells_what_a_known_noise_allows(ferocal: Ferocal) -> None:
    ferocal.write(GOOD_ONCE)
    assert ferocal.json("plan")["outlook"] == []
    (points,) = ferocal.json("plan", "--sd", "3%")["outlook"]
    # Known beforehand, so that the normal distribution serves; two metrics share the level.
    expected = math.expm1((stats.norm.ppf(1 - 0.0125) + stats.norm.ppf(0.8)) * 0.03)
    assert points["metric"] == "score" and points["detectable"] == pytest.approx(expected, rel=1e-3)
    # Visits to each side, whose noise the paired test would estimate.
    assert points["rounds_80"] == rounds_to_detect(math.log1p(0.02), 0.03, alpha=0.025)
    assert "noise: SD of the difference of two visits" in ferocal.quick("plan", "--sd", "3%")
    ferocal.write(GOOD_ONCE.replace('margin = "1 W"', 'margin = "1 W"\nnoise = "0.5 W"'))
    (power,) = ferocal.json("plan")["outlook"]
    assert (power["unit"], power["components"]["scale"]) == ("W", "difference")
    watts = (stats.norm.ppf(1 - 0.0125) + stats.norm.ppf(0.8)) * 0.5 * math.sqrt(2)
    assert power["detectable"] == pytest.approx(watts, rel=1e-3)
    assert "2.2 W" in ferocal.quick("plan")


def test_the_outlook_uses_the_margin_and_the_number_of_comparisons(tmp_path: Path) -> None:
    plan = study(tmp_path, "rounds = 8", primary='role = "primary"')
    assert count_comparisons(plan) == {"primary": 3, "secondary": 3}
    known = Components(0.02, 9, 4e-4, 1e-4)
    cost = estimate_cost(plan, plan_study(plan), {}, None)
    spread = {("flight", "fps"): known, ("flight", "power"): known}
    fps, power = foresee(plan, 8, cost, None, spread)
    assert fps.rounds_80 == rounds_to_detect(math.log1p(0.02), 0.02, alpha=0.05 / 3)
    assert power.rounds_80 is not None and fps.rounds_80 is not None
    assert power.rounds_80 < fps.rounds_80  # its margin is wider
    assert fps.detectable is not None
    found = power_difference(math.log1p(fps.detectable), 0.02, 8, alpha=0.05 / 3)
    assert found == pytest.approx(0.8, abs=0.01)
    # A switch takes 4 minutes and a run 2 with a share of its warm-up: sqrt(4 / 3 * 4).
    assert fps.runs == 2
    assert foresee(plan, 8, cost, None, {}) == []


def test_only_some_visits_can_be_chosen(tmp_path: Path) -> None:
    plan = study(tmp_path, "rounds = 2")
    visits = plan_study(plan)
    chosen = choose_visits(plan, visits, levels=["driver=r64", "firmware=fw-1"])
    assert {visit.configuration for visit in chosen} == {"r64+fw-1"}
    assert len(chosen) == 2
    assert len(choose_visits(plan, visits, ["r61+fw-2"])) == 2
    assert choose_visits(plan, visits, []) == visits
    with pytest.raises(UsageError, match='did you mean "driver=r64"'):
        choose_visits(plan, visits, levels=["drivr=r64"])
    # Levels of one factor are alternatives, limits of different kinds hold together.
    assert choose_visits(plan, visits, levels=["driver=r61", "driver=r64"]) == visits
    with pytest.raises(UsageError, match="no configuration fits r61\\+fw-2 and driver=r64"):
        choose_visits(plan, visits, ["r61+fw-2"], ["driver=r64"])


def test_once_gives_every_visit_its_number() -> None:
    visits = plan_once(["a", "b"], 2, back=True)
    assert [(v.round, v.configuration) for v in visits] == [
        (1, "a"), (2, "a"), (1, "b"), (2, "b"), (3, "a"), (4, "a"),
    ]  # fmt: skip
    assert [visit.position for visit in visits] == [1, 2, 3, 4, 5, 6]


def test_what_is_impossible_is_counted_by_nobody(small_study: Callable[..., Ferocal]) -> None:
    ferocal = small_study(rounds=3)
    text = (ferocal.directory / "study.toml").read_text()
    second = text[text.index("[workload.flight]") :].replace("workload.flight", "workload.orbit")
    barred = '[configuration]\nimpossible = [{ mode = "on", workload = "orbit" }]\n'
    ferocal.write(text + second + barred)
    said = [ferocal.json("plan")["cost"]["runs"], ferocal.json("inspect")["runs"]]
    assert "9 runs" in ferocal.quick("inspect")
    ferocal.quick("measure")
    assert said == [9, 9] and len(ferocal.json("runs")["run_list"]) == 9
