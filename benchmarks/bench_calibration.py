"""Calibration: simulated studies through the real plan and the real analysis.

Prints for each case the rate, its Monte Carlo error (one standard error), the target and
whether it is met. Seeds are fixed.
"""

from __future__ import annotations

import functools
import sys
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy import stats

from sizes import scaled

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.caveats.table import CAVEATS, add_caveats
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.looks import plan_looks
from ferocal.analysis.inference.noise_floors import estimate_floor
from ferocal.analysis.inference.verdicts import CHANGED
from ferocal.analysis.inference.weights import Arm
from simulation import NAMES, simulate, simulate_conditions, simulate_once

STUDIES = scaled(2000, 3)
CLEAN_STUDIES = scaled(500, 2)


def effects_of(readings: Readings, setting: Setting | None = None) -> tuple[Effect, ...]:
    """The effects of a simulated study."""
    return estimate_effects(readings, "base", setting)


def found_unadjusted(readings: Readings) -> bool:
    """Whether the unadjusted interval leaves out no change."""
    return effects_of(readings)[0].shift.p_value < 0.05


def found_by_welch(readings: Readings) -> bool:
    """Whether Welch's test on single runs finds a difference (a wrong method)."""
    logs = [np.log(readings.value[readings.configuration_of == c]) for c in (0, 1)]
    return bool(stats.ttest_ind(*logs, equal_var=False).pvalue < 0.05)


def found_at_all(readings: Readings, setting: Setting | None = None) -> bool:
    """Whether any verdict is better or worse."""
    return any(effect.verdict in CHANGED for effect in effects_of(readings, setting))


def covered_by_floor(rng: np.random.Generator, floor_runs: int, runs: int) -> bool:
    """Whether the interval of one visit each, with a floor of ten visits, holds the truth."""
    control = simulate(rng, rounds=10, runs=floor_runs, drift=0.0)
    floor = estimate_floor(control, Arm(0, 0, 0), ("ratio",))
    assert floor is not None
    once = simulate_once(rng, change=0.05, runs=runs)
    setting = Setting(interleaved=False, noise_floors={("node", once.series[0]): floor})
    (effect,) = effects_of(once, setting)
    return effect.low <= 0.05 <= effect.high


def show(case: str, hits: list[bool], low: float, high: float) -> None:
    """Print one row."""
    rate = float(np.mean(hits))
    error = float(np.sqrt(rate * (1 - rate) / len(hits)))
    met = "met" if low <= rate <= high else "NOT met"
    print(f"{case:62} {rate:6.1%} ± {error:.1%}  target {low:.1%} to {high:.1%}  {met}")


def repeat(
    seed: int, judge: Callable[[Readings], bool], studies: int = STUDIES, **settings: Any
) -> list[bool]:
    """The judgement of so many simulated studies."""
    rng = np.random.default_rng(seed)
    return [judge(simulate(rng, **settings)) for _ in range(studies)]


def show_effects() -> None:
    """Interleaved rounds, drift, and the wrong method beside them."""
    case = "R 5, k 3, s 2 %, v 1, drift 3 %, no change: found"
    show(case, repeat(1, found_unadjusted), 0.035, 0.065)
    show("the same, change 5 %: found", repeat(2, found_unadjusted, change=0.05), 0.63, 0.71)
    small: dict[str, Any] = {"run_sd": 0.005, "visit_sd": 0.0, "drift": 0.10}
    show("drift 10 %, s 0.5 %, no change: found", repeat(3, found_unadjusted, **small), 0.0, 0.065)
    blocked = repeat(4, found_by_welch, visit_sd=0.0, blocked=True)
    show("blocked, Welch on runs, drift 3 %, v 0 (wrong): found", blocked, 0.40, 1.0)


def show_single_visits() -> None:
    """One visit each, with a noise floor."""
    for floor_runs, runs in ((3, 3), (3, 5), (5, 2)):
        rng = np.random.default_rng(7)
        covered = [covered_by_floor(rng, floor_runs, runs) for _ in range(STUDIES)]
        case = f"one visit of k {runs}, floor with d 9 and k {floor_runs}, v 1: interval holds it"
        low, high = (0.935, 0.965) if runs == floor_runs else (0.935, 0.99)
        show(case, covered, low, high)


def show_families() -> None:
    """Measuring until it is decided, and many comparisons at once."""
    noise: dict[str, Any] = {"runs": 1, "run_sd": 0.01, "visit_sd": 0.01}
    for rounds in (10, 20):
        judge = functools.partial(found_at_all, setting=Setting(looks=plan_looks(rounds)))
        case = f"until decided, at most {rounds} rounds, no change: found"
        show(case, repeat(5, judge, rounds=rounds, **noise), 0.0, 0.065)
        several = repeat(8, judge, rounds=rounds, metrics=3, names=NAMES, **noise)
        show(f"the same with 6 comparisons, at most {rounds} rounds: any", several, 0.0, 0.065)
    many = repeat(6, found_at_all, metrics=18, names=NAMES, runs=1)
    show("36 comparisons, Holm, no change: any found", many, 0.0, 0.065)


def show_looks() -> None:
    """Looking at a study that is measured until decided before a look was due."""
    plan = plan_looks(10)
    noise: dict[str, Any] = {"runs": 1, "run_sd": 0.01, "visit_sd": 0.01}
    for case, rounds, taken in (
        ("4 rounds are there and no look was recorded", 4, ()),
        ("a look after round 5, and two more rounds", 7, (5,)),
    ):
        judge = functools.partial(
            found_at_all, setting=Setting(looks=plan, looks_taken={"node": taken})
        )
        high = 0.0 if not taken else 0.035
        show(f"until decided, no change, {case}: found", repeat(21, judge, rounds=rounds, **noise),
             0.0, high)  # fmt: skip


def show_stated_noise() -> None:
    """Single readings with a noise that is stated as it is, or too small by a third."""
    rng = np.random.default_rng(22)
    for stated, low, high in ((0.02, 0.935, 0.965), (0.0133, 0.7, 0.9)):
        covered = []
        for _ in range(STUDIES):
            once = simulate_once(rng, change=0.05, runs=1, run_sd=0.0)
            once = replace(once, series=(replace(once.series[0], noise=stated),))
            (effect,) = effects_of(once, Setting(interleaved=False))
            covered.append(effect.low <= 0.05 <= effect.high)
        case = f"one reading each, noise stated as {stated:.2%}, true 2 %: interval holds it"
        show(case, covered, low, high)


def disturbed_study(rng: np.random.Generator, change: float, shown: float) -> Readings:
    """Readings of which a fifth are slowed, and that were taken again where it showed.

    A disturbance takes 5 to 30 % and shows in the conditions with probability ``shown``;
    whether a run is taken again, three times at most, does not depend on its value.
    """
    readings = simulate(rng, change=change, drift=0.0)
    calm, disturbed = rng.normal(0, 0.02, (2, len(readings.value)))
    log = np.log(readings.value)
    slowed = rng.random(len(log)) < 0.2
    for _ in range(3):
        again = slowed & (rng.random(len(log)) < shown)
        log = np.where(again, log + calm - disturbed, log)
        slowed = np.where(again, rng.random(len(log)) < 0.2, slowed)
    value = np.exp(log - slowed * rng.uniform(0.05, 0.3, len(log)))
    return replace(readings, value=value)


def show_retakes() -> None:
    """Runs that were disturbed and taken again: no bias, and the nominal rate."""
    for shown in (0.5, 1.0):
        rng = np.random.default_rng(23)
        hits = [found_unadjusted(disturbed_study(rng, 0.0, shown)) for _ in range(STUDIES)]
        case = f"disturbed runs taken again, seen in {shown:.0%}, no change: found"
        show(case, hits, 0.035, 0.065)
        effects = [effects_of(disturbed_study(rng, 0.05, shown))[0] for _ in range(STUDIES)]
        covered = [effect.low <= 0.05 <= effect.high for effect in effects]
        show("the same, change 5 %: interval holds it", covered, 0.935, 0.975)
        bias = float(np.mean([effect.shift.mean for effect in effects]) - np.log(1.05))
        print(f"{'the same: bias of the estimate':62} {bias:+6.2%}")


def show_false_alarms_on_odd_readings() -> None:
    """Caveats on clean studies of rounded and of heavy-tailed readings."""
    rng = np.random.default_rng(24)
    for name in ("whole numbers of 1 to 20, SD 0.2 to 3", "t with 3 degrees of freedom"):
        seen: Counter[str] = Counter()
        for _ in range(CLEAN_STUDIES):
            readings = simulate(rng, rounds=6, drift=0.0)
            count = len(readings.value)
            if name.startswith("whole"):
                spread = rng.uniform(0.2, 3) * rng.standard_normal(count)
                value = np.rint(rng.integers(1, 21) + spread)
            else:
                value = np.exp(4 + 0.02 * rng.standard_t(3, count))
            readings = replace(readings, value=value)
            effects = add_caveats(effects_of(readings), readings, Setting(), {})
            seen.update({caveat.code for effect in effects for caveat in effect.caveats})
        for code in ("two-modes", "capped", "coarse", "magnitude", "outliers"):
            hits = [True] * seen[code] + [False] * (CLEAN_STUDIES - seen[code])
            # Heavy tails do lie far off, and some arms are within a step: no false alarms.
            high = 1.0 if code in ("coarse", "outliers") else 0.01
            show(f"caveat {code} on {name}", hits, 0.0, high)


def show_false_alarms() -> None:
    """How often caveats of the statistical kind appear on clean studies."""
    rng = np.random.default_rng(9)
    seen: Counter[str] = Counter()
    setting = Setting(control="third")
    for _ in range(CLEAN_STUDIES):
        readings = simulate(rng, rounds=6, metrics=2, names=NAMES, drift=0.0)
        context = Context(conditions=simulate_conditions(rng, readings))
        effects = add_caveats(effects_of(readings, setting), readings, setting, {"node": context})
        seen.update({caveat.code for effect in effects for caveat in effect.caveats})
    for code in [code for code, kind in CAVEATS.items() if kind.statistical]:
        hits = [True] * seen[code] + [False] * (CLEAN_STUDIES - seen[code])
        show(f"caveat {code} on a clean study of 4 comparisons", hits, 0.0, 0.05)


def main() -> None:
    """Print all rows."""
    show_effects()
    show_single_visits()
    show_families()
    show_looks()
    show_stated_noise()
    show_retakes()
    show_false_alarms()
    show_false_alarms_on_odd_readings()


if __name__ == "__main__":
    main()
