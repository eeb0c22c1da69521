"""Every caveat has a case in which it must appear, and one in which it must not."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from ferocal.analysis.caveats.circumstances import BusyBench, Circumstances
from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.caveats.table import CAVEATS, add_caveats
from ferocal.analysis.data.readings import NO_ROUND, Readings
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.looks import plan_looks
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.answers.definitions import DefinitionChange
from ferocal.documents.caveats.words import caveat_text, seen_text
from simulation import NAMES, simulate, simulate_conditions, simulate_once

Case = tuple[Readings, Setting, Context]


def codes(case: Case) -> set[str]:
    readings, setting, context = case
    effects = add_caveats(
        estimate_effects(readings, "base", setting), readings, setting, {"node": context}
    )
    assert effects
    return {caveat.code for effect in effects for caveat in effect.caveats}


def clean(**settings: Any) -> Readings:
    return simulate(np.random.default_rng(11), **{"rounds": 6, "drift": 0.0, **settings})


def fine() -> Readings:
    """Readings that vary by less than one, and a margin that is as narrow."""
    return with_series(clean(run_sd=0.002, visit_sd=0.002), margin=0.001)


def of_frames() -> Readings:
    return with_series(clean(), of_frames=True)


def in_seconds() -> Readings:
    return with_series(clean(), unit="s")


def redefined(workload: str) -> Context:
    change = DefinitionChange("files", workload, "2026-05-01", workload=workload)
    return Context(definition_changes=[change])


def case(readings: Readings, context: Context | None = None, **setting: Any) -> Case:
    return readings, Setting(**setting), context or Context()


def with_values(readings: Readings, change: Callable[[Readings, np.ndarray], np.ndarray]) -> Case:
    """The readings with values that ``change`` makes of a copy of them."""
    return case(replace(readings, value=change(readings, readings.value.copy())))


def with_series(readings: Readings, **fields: Any) -> Readings:
    return replace(readings, series=tuple(replace(s, **fields) for s in readings.series))


def other(readings: Readings) -> np.ndarray:
    return np.equal(readings.configuration_of, 1)


def first_of_visit(readings: Readings) -> np.ndarray:
    first = np.zeros(len(readings.value), dtype=bool)
    first[np.unique(readings.visit_of, return_index=True)[1]] = True
    return first


def few_wrong(factor: float, *rows: int) -> Callable[[Readings, np.ndarray], np.ndarray]:
    def change(_: Readings, value: np.ndarray) -> np.ndarray:
        value[list(rows)] *= factor
        return value

    return change


def cap(limit: float) -> Callable[[Readings, np.ndarray], np.ndarray]:
    """Readings of the second arm cannot exceed a limit, which is itself read a little unevenly."""

    def change(readings: Readings, value: np.ndarray) -> np.ndarray:
        uneven = 1 + 1e-5 * np.sin(np.arange(len(value)))
        return np.where(other(readings), np.minimum(value, limit) * uneven, value)

    return change


def sides(**fields: Any) -> Context:
    """A context in which the two sides differ in one thing."""
    plain = Circumstances({}, {}, {})
    return Context(
        circumstances={
            "base": replace(plain, **{name: there for name, (_, there) in fields.items()}),
            "other": replace(plain, **{name: here for name, (here, _) in fields.items()}),
        }
    )


def only(value: str) -> frozenset[str]:
    return frozenset([value])


def floor(readings: Readings, age: float) -> dict[Any, NoiseFloor]:
    found = NoiseFloor("ratio", 1e-4, 9, 3, 1e-4, 20, "ten visits", age)
    return {("node", readings.series[0]): found}


def traded(first: float, second: float) -> Case:
    readings = clean(metrics=2, run_sd=0.005, visit_sd=0.005)
    one, two = readings.series
    readings = replace(readings, series=(one, replace(two, trades_with=("m0",))))
    factor = np.where(readings.series_of == 0, 1 + first, 1 + second)
    return with_values(readings, lambda r, value: value * np.where(other(r), factor, 1))


def named_metrics(*names: str) -> Case:
    """Two metrics of one workload, of which the second reads higher."""
    readings = clean(metrics=2, run_sd=0.005, visit_sd=0.005)
    series = tuple(replace(s, metric=n) for s, n in zip(readings.series, names, strict=True))
    higher = np.where(readings.series_of == 1, 1.3, 1.0)
    return with_values(replace(readings, series=series), lambda r, value: value * higher)


def begun(beginning: float, late: float) -> Case:
    """A soak that begins otherwise than the baseline's, and whose late part is otherwise."""
    readings = clean(metrics=3, run_sd=0.002, visit_sd=0.002)
    names = ("beginning", "last-quarter", "sustained")
    series = tuple(
        replace(s, metric=f"show/{n}", better="higher")
        for s, n in zip(readings.series, names, strict=True)
    )
    factors = np.array([beginning, late, late / beginning])[readings.series_of]
    return with_values(
        replace(readings, series=series),
        lambda r, value: value * np.where(other(r), factors, 1.0),
    )


def frames_that_last(factor: float) -> Case:
    readings = with_series(of_frames(), metric="frame-time/median", unit="ms")
    return with_values(readings, lambda r, value: value * factor)


def conditions(warmer: float) -> Case:
    readings = clean(rounds=8)
    found = simulate_conditions(np.random.default_rng(2), readings, warmer=warmer)
    return case(readings, Context(conditions=found))


def governors(second: str) -> Case:
    readings = clean()
    found = simulate_conditions(np.random.default_rng(2), readings)
    words = [only("steady" if c == 0 else second) for c in found.configuration_of]
    return case(readings, Context(conditions=replace(found, words={"governor": words})))


def control(change: float) -> Case:
    readings = clean(names=NAMES, run_sd=0.005, visit_sd=0.005)
    factor = np.where(readings.configuration_of == 2, 1 + change, 1)
    return case(replace(readings, value=readings.value * factor), control="third")


BEYOND = 0.05  # of the study's margin of 2 %, in a drift
ONCE = simulate_once(np.random.default_rng(3))
LOSSES = {("flight", "other"): {"failed": 2}}
BOTH = {**LOSSES, ("flight", "base"): {"failed": 1}}
SEVERAL = {"other": ("driver", "api")}
SAME_FILES = sides(
    subjects=({"flight": {"version": only("4")}}, {"flight": {"version": only("4")}})
)

SEEN = json.loads((Path(__file__).with_name("caveats.json")).read_text(encoding="utf-8"))
CASES: dict[str, tuple[Case, Case]] = {
    "one-visit": (case(ONCE, interleaved=False), case(clean())),
    "few-rounds": (case(clean(rounds=4)), case(clean(rounds=5))),
    "not-computed": (
        case(clean(), Context(uncomputed={("other", "flight", "m0"): [("a reason", 2)]})),
        case(clean(), Context(uncomputed={("other", "flight", "m7"): [("a reason", 2)]})),
    ),
    "unpaired-rounds": (
        case(clean().select(~((clean().round_of == 2) & other(clean())))),
        case(clean()),
    ),
    "not-interleaved": (
        case(simulate_once(np.random.default_rng(3), visits=3), interleaved=False),
        case(clean()),
    ),
    "unknown-visits": (
        case(replace(clean(), round_of=np.full(36, NO_ROUND), unknown_arms=frozenset(range(99)))),
        case(replace(clean(), round_of=np.full(36, NO_ROUND))),
    ),
    "extended": (case(clean(rounds=8), planned_rounds={"node": 6}),
                 case(clean(), planned_rounds={"node": 6})),
    "stale-noise-floor": (
        case(ONCE, interleaved=False, noise_floors=floor(ONCE, 45)),
        case(ONCE, interleaved=False, noise_floors=floor(ONCE, 3)),
    ),
    "criteria-changed": (
        case(clean(), Context(criteria_changes={("flight", "m0"): ["margin was 3 %, is 9 %"]})),
        case(clean(), Context(criteria_changes={("export", "m0"): ["margin was 3 %, is 9 %"]})),
    ),
    "as-stated": (
        case(with_series(ONCE, noise=0.015), interleaved=False),
        case(ONCE, interleaved=False),
    ),
    "bounds-left-out": (
        case(replace(clean(), bound=(np.arange(36) == 4).astype(np.int64))),
        case(replace(clean(), bound=other(clean()).astype(np.int64))),
    ),
    "several-factors": (
        case(clean(), differing=SEVERAL),
        case(clean(), differing={"other": ("driver",)}),
    ),
    "undeclared-difference": (
        case(clean(), sides(software=({"libc": only("2")}, {"libc": only("1")}))),
        case(clean(), sides(software=({"libc": only("2")}, {"libc": only("2")}))),
    ),
    "definition-changed": (
        case(clean(), redefined("flight")),
        case(clean(), redefined("soak")),
    ),
    "unproven": (
        case(clean(), Context(unproven={"other": ["driver=r64"]}), differing=SEVERAL),
        case(clean(), Context(unproven={"other": ["scene=north"]}), differing=SEVERAL),
    ),
    "resources-differ": (
        case(clean(), sides(resources=({"memory": only("16")}, {"memory": only("32")}))),
        case(clean(), sides(resources=({"memory": only("16")}, {"cores": only("2")}))),
    ),
    "per-resource": (
        case(clean(), amounts={"base": {"adapters": 1}, "other": {"adapters": 2}}),
        case(clean(), amounts={"base": {"adapters": 1}, "other": {"adapters": 1}}),
    ),
    "workload-differs": (
        case(clean(), sides(subjects=({"flight": {"v": only("4")}}, {"flight": {"v": only("5")}}))),
        case(clean(), SAME_FILES),
    ),
    "best-of": (
        case(clean(), sides(statistics=({("flight", "m0"): only("best")},
                                        {("flight", "m0"): only("mean")}))),
        case(clean(), sides(statistics=({("flight", "m9"): only("best")},
                                        {("flight", "m9"): only("mean")}))),
    ),
    "software-moved": (
        case(clean(), sides(software=({"browser": frozenset({"7.1", "7.2"})}, {}))),
        case(clean(), sides(software=({"browser": only("7.1")}, {"browser": only("7.2")}))),
    ),
    "other-unit": (
        case(clean(), Context(strays={("flight", "m0"): (3, "ms")})),
        case(clean(), Context(strays={("export", "m0"): (3, "ms")})),
    ),
    "conditions-differ": (conditions(6.0), conditions(0.0)),
    "busy-bench": (
        case(clean(), Context(busy=BusyBench(36, 20, 0, ("pip", "dpkg")))),
        case(clean(), Context(busy=BusyBench(36, 2, 3, ("pip",)))),
    ),
    "one-sided-losses": (
        case(clean(), Context(losses=LOSSES)), case(clean(), Context(losses=BOTH)),
    ),
    "drift": (case(clean(rounds=10, drift=2 * BEYOND)), case(clean(rounds=10))),
    "first-run": (
        with_values(clean(), lambda r, v: np.where(first_of_visit(r), 0.93 * v, v)),
        case(clean()),
    ),
    "outliers": (with_values(clean(), few_wrong(1.5, 4)), with_values(clean(), few_wrong(1.01, 4))),
    "two-modes": (
        with_values(clean(), lambda r, v: np.where(np.arange(len(v)) % 2, 1.3 * v, v)),
        with_values(clean(), lambda r, v: np.where(other(r), 1.3 * v, v)),
    ),
    "coarse": (
        with_values(fine(), lambda r, v: np.round(v + 0.4 * other(r))),
        with_values(fine(), lambda r, v: np.round(np.where(other(r), 2 * v, v))),
    ),
    # One clock shows whole units, the other tenths.
    "steps-differ": (
        with_values(clean(), lambda r, v: np.where(other(r), np.round(v), np.round(v, 1))),
        with_values(clean(), lambda r, v: np.where(other(r), np.round(v, 2), np.round(v, 3))),
    ),
    "capped": (with_values(clean(), cap(54.0)), with_values(clean(), cap(500.0))),
    "implausible": (
        case(with_series(clean(), plausible=(0, 55))),
        case(with_series(clean(), plausible=(0, 90))),
    ),
    "odd-frames": (frames_that_last(20.0), frames_that_last(1.0)),
    "magnitude": (with_values(clean(), few_wrong(0.1, 7)), with_values(clean(), few_wrong(0.5, 7))),
    "unit-doubtful": (
        with_values(in_seconds(), lambda r, v: np.where(other(r), 1000 * v, v)),
        with_values(in_seconds(), lambda r, v: np.where(other(r), 200 * v, v)),
    ),
    "short-capture": (
        case(replace(of_frames(), samples=np.full(36, 900.0))),
        case(replace(of_frames(), samples=np.full(36, 60_000.0))),
    ),
    "difference-scale": (with_values(clean(), lambda r, v: v - 54.6), case(clean())),
    "assumed-times": (case(with_series(clean(), assumed_times=True)), case(clean())),
    "no-spread": (
        with_values(clean(), lambda r, v: np.where(other(r), 61.0, 60.0)),
        case(clean()),
    ),
    "contradiction": (named_metrics("average", "low"), named_metrics("low", "average")),
    "weak-beginning": (begun(0.8, 1.0), begun(1.0, 1.2)),
    "trade-off": (traded(0.08, -0.08), traded(0.08, 0.08)),
    "control-differs": (control(0.05), control(0.0)),
}  # fmt: skip


def test_every_caveat_has_its_cases() -> None:
    assert CASES.keys() == CAVEATS.keys()


@pytest.mark.parametrize("code", CASES)
def test_a_caveat_appears_where_it_must_and_only_there(code: str) -> None:
    there, not_there = CASES[code]
    assert code in codes(there)
    assert code not in codes(not_there)


def told(value: Any) -> Any:
    """The values of a caveat as JSON has them, numbers to four digits."""
    if isinstance(value, tuple | list):
        return [told(part) for part in value]
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, int | np.integer):
        return int(value)
    return float(f"{value:.4g}") if isinstance(value, float) else str(value)


@pytest.mark.parametrize("code", CASES)
def test_what_a_caveat_says_is_what_was_seen(code: str) -> None:
    """Numbers, sides and names in it are pinned: each was held against how its case is made."""
    readings, setting, context = CASES[code][0]
    effects = estimate_effects(readings, "base", setting)
    found: list[Any] = []
    for effect in add_caveats(effects, readings, setting, {"node": context}):
        for caveat in effect.caveats:
            values = {name: told(value) for name, value in caveat.values.items()}
            if caveat.code == code and values not in found:
                found.append(values)
    assert found == SEEN[code]


def test_more_ways_to_the_same_caveats() -> None:
    looked = case(clean(rounds=21), looks=plan_looks(20))
    assert "extended" in codes(looked)
    assert "conditions-differ" in codes(governors("loose"))
    assert "conditions-differ" not in codes(governors("steady"))
    fewer = clean().select(np.arange(36) != 8)
    assert "one-sided-losses" in codes(case(fewer))
    # Frame rates that all are the refresh rate, on both sides: a cap read as "no change".
    steady = with_values(clean(), lambda r, v: 60 * (1 + 1e-4 * np.sin(np.arange(len(v)))))
    assert "capped" in codes(steady)
    assert "capped" not in codes((with_series(steady[0], unit="W"), *steady[1:]))
    # Memory that is the same in most runs is no cap.
    taken = with_values(clean(), cap(54.0))
    assert "capped" in codes(taken)
    assert "capped" not in codes((with_series(taken[0], unit="MiB"), *taken[1:]))
    # A stopwatch has a resolution that its decimals do not show.
    near = with_series(
        clean(run_sd=0.0005, visit_sd=0.0005, change=0.002), resolution=0.3, margin=0.001
    )
    assert "coarse" in codes(case(near))
    assert "coarse" not in codes(case(with_series(near, resolution=0.0001)))
    # Rounding makes two groups of readings that vary by a step.
    for apart, told in ((1, False), (10, True)):
        rounded = with_values(
            clean(),
            lambda r, v: 50.0 + apart * (np.arange(len(v)) % 2),  # noqa: B023
        )
        assert ("two-modes" in codes(rounded)) is told
    # One arm in milliseconds, the other in seconds; not where Ferocal took the time itself, nor
    # where a compiler makes an arm 200 times as fast.
    for factor, metered, told in ((1e3, False, True), (1e3, True, False), (200, False, False)):
        timed = with_series(clean(), unit="s", metered=metered)
        scaled = with_values(timed, lambda r, v: np.where(other(r), factor * v, v))  # noqa: B023
        assert ("unit-doubtful" in codes(scaled)) is told


def test_differences_count_unless_unknown_explained_or_of_another_workload() -> None:
    newer = sides(software=({"libc": only("2"), "kernel": only("5")}, {"libc": only("1")}))
    readings, setting, _ = case(clean())
    found = add_caveats(
        estimate_effects(readings, "base", setting), readings, setting, {"node": newer}
    )
    texts = [caveat_text(c) for e in found for c in e.caveats if c.code == "undeclared-difference"]
    assert len(texts) == 1 and texts[0].startswith("Software differs: libc 2 against 1 in the ")
    assert "undeclared-difference" not in codes(
        case(clean(), replace(newer, explained={"other": {"libc"}}))
    )
    elsewhere = ({"export": {"v": only("4")}}, {"export": {"v": only("5")}})
    assert "workload-differs" not in codes(case(clean(), sides(subjects=elsewhere)))


def test_sentences_tell_what_was_seen_and_what_to_do() -> None:
    readings, setting, context = CASES["trade-off"][0]
    effects = add_caveats(
        estimate_effects(readings, "base", setting), readings, setting, {"node": context}
    )
    (text,) = {caveat_text(c) for e in effects for c in e.caveats if c.code == "trade-off"}
    assert text.startswith("With other, flight m0 gets better and flight m1 gets worse: decide")
    back = simulate_once(np.random.default_rng(3), visits=2)
    there = np.where(back.visit_of == 2, 1, 0)  # two visits before it, one after
    back = replace(back, configuration_of=there, round_of=back.visit_of)
    apart = Setting(interleaved=False)
    (effect,) = add_caveats(estimate_effects(back, "base", apart), back, apart, {})
    moved = [seen_text(c) for c in effect.caveats if c.code == "not-interleaved"]
    assert "the baseline moved by" in moved[0]
    up = replace(back, value=np.where(back.visit_of == 3, 1.5, 1.0) * 60)
    (effect,) = add_caveats(estimate_effects(up, "base", apart), up, apart, {})
    assert "moved by +50 % from its first" in " ".join(map(seen_text, effect.caveats))


def test_many_metrics_share_the_chance_of_a_false_alarm_of_drift() -> None:
    rng = np.random.default_rng(14)
    drifting = 0
    for _ in range(60):
        readings = simulate(rng, rounds=6, runs=1, metrics=60, drift=0.0)
        drifting += "drift" in codes(case(readings))
    assert drifting <= 4  # 1 % of studies, not of 60 metrics in each


def test_clean_studies_raise_few_false_alarms() -> None:
    rng = np.random.default_rng(12)
    seen: Counter[str] = Counter()
    for _ in range(500):
        readings = simulate(rng, rounds=6, metrics=2, names=NAMES, drift=0.0)
        context = Context(conditions=simulate_conditions(rng, readings))
        seen.update(codes((readings, Setting(control="third"), context)))
    assert {
        code: seen[code] for code, kind in CAVEATS.items() if kind.statistical and seen[code] > 25
    } == {}
