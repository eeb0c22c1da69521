"""Calibration: simulated studies through the real plan and the real analysis.

Prints for each case the rate, its Monte Carlo error (one standard error), the target and
whether it is met. Seeds are fixed.
"""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from scipy import stats

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ferocal.analysis.effects import Effect, estimate_effects
from ferocal.analysis.looks import plan_looks
from ferocal.analysis.readings import Readings
from ferocal.analysis.verdicts import Verdict
from simulation import NAMES, simulate

STUDIES = 2000
CHANGED = (Verdict.BETTER, Verdict.WORSE)


def effects_of(readings: Readings) -> tuple[Effect, ...]:
    """The effects of a simulated study."""
    return estimate_effects(readings, "base", differing={})


def found_unadjusted(readings: Readings) -> bool:
    """Whether the unadjusted interval leaves out no change."""
    return effects_of(readings)[0].shift.p_value < 0.05


def found_by_welch(readings: Readings) -> bool:
    """Whether Welch's test on single runs finds a difference (a wrong method)."""
    logs = [np.log(readings.value[readings.configuration_of == c]) for c in (0, 1)]
    return bool(stats.ttest_ind(*logs, equal_var=False).pvalue < 0.05)


def found_by_looks(readings: Readings, limit: int) -> bool:
    """Whether looking until decided finds a difference."""
    effects = estimate_effects(readings, "base", differing={}, looks=plan_looks(limit))
    return effects[0].verdict in CHANGED


def show(case: str, hits: list[bool], low: float, high: float) -> None:
    """Print one row."""
    rate = float(np.mean(hits))
    error = float(np.sqrt(rate * (1 - rate) / len(hits)))
    met = "met" if low <= rate <= high else "NOT met"
    print(f"{case:58} {rate:6.1%} ± {error:.1%}  target {low:.1%} to {high:.1%}  {met}")


def repeat(
    seed: int, judge: Callable[[Readings], bool], studies: int = STUDIES, **settings: Any
) -> list[bool]:
    """The judgement of so many simulated studies."""
    rng = np.random.default_rng(seed)
    return [judge(simulate(rng, **settings)) for _ in range(studies)]


def main() -> None:
    """Print all rows."""
    show(
        "R 5, k 3, s 2 %, v 1, drift 3 %, no change: found",
        repeat(1, found_unadjusted),
        0.035,
        0.065,
    )
    show("the same, change 5 %: found", repeat(2, found_unadjusted, change=0.05), 0.63, 0.71)
    small: dict[str, Any] = {"run_sd": 0.005, "visit_sd": 0.0, "drift": 0.10}
    show("drift 10 %, s 0.5 %, no change: found", repeat(3, found_unadjusted, **small), 0.0, 0.065)
    blocked = repeat(4, found_by_welch, visit_sd=0.0, blocked=True)
    show("blocked, Welch on runs, drift 3 %, v 0 (wrong): found", blocked, 0.40, 1.0)
    noise: dict[str, Any] = {"runs": 1, "run_sd": 0.01, "visit_sd": 0.01}
    for rounds in (10, 20):
        looks = repeat(5, functools.partial(found_by_looks, limit=rounds), rounds=rounds, **noise)
        show(f"until decided, at most {rounds} rounds, no change: found", looks, 0.0, 0.065)
    several = repeat(
        6,
        lambda r: any(e.verdict in CHANGED for e in effects_of(r)),
        metrics=18,
        names=NAMES,
        runs=1,
    )
    show("36 comparisons, Holm, no change: any found", several, 0.0, 0.065)


if __name__ == "__main__":
    main()
