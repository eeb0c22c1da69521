"""Simulated studies with known truth, through the real plan."""

from __future__ import annotations

import numpy as np

from ferocal.analysis.readings import Readings, Series
from ferocal.plan.order import plan_rounds

NAMES = ("base", "other", "third")


def simulate(
    rng: np.random.Generator,
    *,
    change: float = 0.0,
    rounds: int = 5,
    runs: int = 3,
    run_sd: float = 0.02,
    visit_sd: float = 0.02,
    drift: float = 0.03,
    metrics: int = 1,
    names: tuple[str, ...] = NAMES[:2],
    blocked: bool = False,
) -> Readings:
    """A study through the real plan; the second configuration has the true change.

    Standard deviations, and the drift from the first visit to the last, are on the log
    scale. With ``blocked`` all visits to the first configuration come before the others.
    """
    rows: list[tuple[int, int, int, int, float]] = []
    visits = plan_rounds(names, rounds, int(rng.integers(2**31)))
    if blocked:
        visits.sort(key=lambda visit: names.index(visit.configuration))
    for s in range(metrics):
        for position, visit in enumerate(visits):
            level = np.log1p(change) if visit.configuration == names[1] else 0.0
            level += drift * position / len(visits) + rng.normal(0, visit_sd)
            for value in np.exp(4 + level + rng.normal(0, run_sd, runs)):
                rows.append((s, names.index(visit.configuration), visit.round, len(rows), value))
    series = [Series("flight", f"m{s}", "fps", "higher", 0.02) for s in range(metrics)]
    s_of, c_of, round_of, run_of, value = (np.array(column) for column in zip(*rows, strict=True))
    return Readings("node", tuple(series), names, s_of, c_of, round_of, run_of, value)
