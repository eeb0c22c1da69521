"""Simulated studies with known truth, through the real plan."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ferocal.analysis.caveats.circumstances import Conditions
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.series.course import find_courses
from ferocal.analysis.series.shifts import SeriesShift, judge_shifts
from ferocal.analysis.series.steps import search_courses
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
            place = (s, names.index(visit.configuration), visit.round, position)
            rows += [(*place, v) for v in np.exp(4 + level + rng.normal(0, run_sd, runs))]
    series = [Series("flight", f"m{s}", "fps", "higher", 0.02) for s in range(metrics)]
    return make_readings(series, names, *zip(*rows, strict=True))


def make_readings(
    series: Sequence[Series], names: Sequence[str], *columns: Sequence[float]
) -> Readings:
    """Readings on one bench from columns of series, configurations, rounds, visits and values.

    Runs are numbered in the order of the rows.
    """
    s, c, r, v = (np.array(column, dtype=np.int64) for column in columns[:4])
    value = np.array(columns[4], dtype=float)
    n = len(value)
    nothing, sharp = np.full(n, np.nan), np.zeros(n)
    bench = np.zeros(n, dtype=np.int64)
    return Readings(
        ("node",), tuple(series), tuple(names), s, bench, c, r, v, np.arange(n), value, nothing,
        sharp, bench, v.astype(float),
    )  # fmt: skip


def shifts_of(values: Sequence[float], series: Series) -> tuple[SeriesShift, ...]:
    """The judged steps and creeps of releases of one visit each, on the log scale."""
    count = len(values)
    nothing, at = [0] * count, range(count)
    rows = (nothing, at, [-1] * count, at, np.exp(values).tolist())
    readings = make_readings([series], [f"r{n}" for n in at], *rows)
    courses = list(find_courses(readings, 0, at, interleaved=False))
    (search,) = search_courses(courses, readings.series)

    def floor(readings: Readings, series: int, bench: int) -> NoiseFloor | None:
        return None if search.spread is None else search.spread.floor("ratio", 1.0)

    setting = Setting(interleaved=False, release_floor=floor)
    return judge_shifts(readings, {"node": [search]}, at, setting)["node", 0]


def simulate_once(
    rng: np.random.Generator,
    *,
    change: float = 0.0,
    visits: int = 1,
    runs: int = 3,
    run_sd: float = 0.02,
    visit_sd: float = 0.02,
) -> Readings:
    """All visits to the baseline, and after them all to the other configuration."""
    rows = [
        (0, c, number + 1, c * visits + number, value)
        for c in range(2)
        for number in range(visits)
        for value in np.exp(
            4 + c * np.log1p(change) + rng.normal(0, visit_sd) + rng.normal(0, run_sd, runs)
        )
    ]
    series = Series("flight", "m0", "fps", "higher", 0.02)
    return make_readings([series], NAMES[:2], *zip(*rows, strict=True))


def simulate_conditions(
    rng: np.random.Generator, readings: Readings, *, warmer: float = 0.0
) -> Conditions:
    """Conditions of every visit; the second configuration runs warmer by so many degrees."""
    visits, first = np.unique(readings.visit_of, return_index=True)
    configuration_of = readings.configuration_of[first]
    n = len(visits)
    return Conditions(
        configurations=readings.configurations,
        configuration_of=configuration_of,
        round_of=readings.round_of[first],
        numbers={
            "temperature_celsius": rng.normal(60, 2, n) + warmer * (configuration_of == 1),
            "load": rng.normal(1, 0.5, n),
            "ambient": rng.normal(22, 0.5, n),
        },
        words={"governor": [frozenset({"steady"})] * n},
    )


def simulate_soak(
    rng: np.random.Generator,
    *,
    drift: float = 0.0,
    correlation: float = 0.0,
    spikes: float = 0.0,
    drop: float = 0.0,
    at: float = 0.0,
    until: float = np.inf,
) -> tuple[np.ndarray, np.ndarray]:
    """An hour of values of 100, one a second with an SD of 2 %; times and values.

    The drop, a share of the value, lasts from ``at`` to ``until`` (s).
    """
    time = np.arange(3600.0)
    noise = rng.normal(0, 0.02, len(time))
    for n in range(1, len(time) if correlation else 0):
        noise[n] = correlation * noise[n - 1] + np.sqrt(1 - correlation**2) * noise[n]
    value = 100 * (1 + drift * time / time[-1]) * (1 + noise)
    value[(time >= at) & (time < until)] *= 1 - drop
    return time, np.where(rng.random(len(time)) < spikes, 0.5 * value, value)


def simulate_falls(
    rng: np.random.Generator, *, drift: float = -0.05, sd: float = 0.02
) -> tuple[np.ndarray, np.ndarray, list[float], float]:
    """An hour with a shallow and a deep fall in any order and a partial recovery of the deep one.

    Times (s), values, when the three events come, and when the one comes that costs most: each
    moment's loss against the level before is that of the deepest fall by then. Between them the
    value drifts. Hours in which both cost about the same are drawn again.
    """
    time = np.arange(3600.0)
    while True:
        shallow, deep, back = rng.uniform(0.10, 0.16), rng.uniform(0.22, 0.4), rng.uniform(0.3, 0.7)
        at = np.cumsum([rng.uniform(45, 1200), rng.uniform(400, 1200), rng.uniform(400, 900)])
        first = rng.random() < 0.5
        steps = [-shallow, -deep, back * deep] if first else [-deep, back * deep, -shallow]
        levels = np.r_[1.0, 1.0 + np.cumsum(steps)]
        lost = (levels[[0, 1, 1] if first else [0, 0, 0]] - levels[1:]) * np.diff(np.r_[at, 3600])
        # The shallow one costs while it is the only one, the deep one from when it comes.
        costs = (lost[0], lost[1:].sum()) if first else (lost.sum(), 0.0)
        if max(costs) > 1.3 * min(costs):
            break
    level = levels[np.searchsorted(at, time, side="right")] * (1 + drift * time / time[-1])
    main = float(at[int(np.argmax(costs))])
    return time, 200 * level * (1 + rng.normal(0, sd, len(time))), at.tolist(), main


def simulate_bursts(rng: np.random.Generator, frames: int, *, slower: float = 1.0) -> np.ndarray:
    """Frame times (ms) around 16.7 with bursts of hitches, about one in 150 frames."""
    times = 16.7 * slower * np.exp(rng.normal(0, 0.06, frames))
    for begin in np.flatnonzero(rng.random(frames) < 1 / 150).tolist():
        times[begin : begin + 1 + rng.poisson(3)] *= rng.uniform(1.3, 3)
    return times


def simulate_factors(
    rng: np.random.Generator,
    logs: Sequence[float],
    *,
    rounds: int = 5,
    runs: int = 1,
    run_sd: float = 0.01,
    visit_sd: float = 0.01,
    missing: float = 0.0,
    metrics: int = 1,
) -> Readings:
    """A study of configurations with true logarithms, each round with a level of its own.

    A share ``missing`` of the visits was not made.
    """
    names = [f"c{n}" for n in range(len(logs))]
    rows = []
    for visit, planned in enumerate(plan_rounds(names, rounds, int(rng.integers(2**31)))):
        if rng.random() < missing:
            continue
        c = names.index(planned.configuration)
        for s in range(metrics):
            level = logs[c] + 0.02 * planned.round + rng.normal(0, visit_sd)
            values = np.exp(4 + level + rng.normal(0, run_sd, runs))
            rows += [(s, c, planned.round, visit, value) for value in values]
    series = [Series(f"w{s}", "rate", "fps", "higher", 0.02) for s in range(metrics)]
    return make_readings(series, names, *zip(*rows, strict=True))
