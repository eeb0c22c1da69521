"""Series of releases, seeking a step, rankings: error rates, visits, and how long they take.

Every figure is printed beside its target. Simulated histories go through the real analysis.
"""

from __future__ import annotations

import itertools
import math
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import numpy as np

from sizes import scaled

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from ferocal.analysis.data.index import add_index, index_series
from ferocal.analysis.data.readings import choose_scales
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.rank.lineup import Contestant
from ferocal.analysis.rank.standings import rank_contestants
from ferocal.analysis.series.course import course_of_visits
from ferocal.analysis.series.place import locate
from ferocal.analysis.series.seeking import State, choose_metric, seek
from ferocal.analysis.series.steps import search_courses
from simulation import make_readings, shifts_of

STUDIES, HISTORIES, RELEASES = scaled(2000, 2), scaled(500, 2), 64
_SERIES = (Series("export", "duration", "s", "lower", 0.01, role="primary"),)
PLAIN = """
import sqlite3, sys
import numpy as np
rows = sqlite3.connect(sys.argv[1]).execute(
    "SELECT configuration, metric_id, value FROM reading JOIN run ON run.id = run_id "
    "JOIN visit ON visit.id = visit_id").fetchall()
by = {}
for name, metric, value in rows:
    by.setdefault((name, metric), []).append(np.log(value))
print(len({k: np.median(v) for k, v in by.items()}))
"""


def one_series(kind: str, count: int, sd: float, seed: int) -> tuple[bool, bool, bool | None]:
    """Whether anything is found, whether a step is, and whether its interval holds the truth.

    The step of 3 % is amid the releases, three at least on either side.
    """
    rng = np.random.default_rng([seed, count, 77])
    x, place = np.arange(count), int(rng.integers(3, count - 2))
    shapes = {"none": 0.0 * x, "step": 1.0 * (x >= place), "creep": x / (count - 1)}
    values = 0.03 * shapes[kind] + rng.normal(0, sd / 100, count)
    steps = shifts_of(values.tolist(), _SERIES[0])
    covered = None
    if kind != "none" and steps:
        covered = any(s.low <= math.expm1(0.03) <= s.high for s in steps)
    return bool(steps), any(s.kind == "step" for s in steps), covered


NOISES: dict[str, Callable[[np.random.Generator, int], np.ndarray]] = {
    "normal": lambda rng, count: rng.normal(size=count),
    "heavy tails (t3)": lambda rng, count: rng.standard_t(3, count) / math.sqrt(3),
    "skewed (lognormal)": lambda rng, count: np.exp(rng.normal(size=count)) / 2.16,
    "half 5 times as noisy": lambda rng, count: (
        rng.normal(size=count) * np.where(np.arange(count) * 2 < count, 1, 5)
    ),
}


def one_family(noise: str, count: int, metrics: int, step: float, seed: int) -> list[bool]:
    """For every metric of a family whether something is found; a step of so many SD, if any."""
    rng = np.random.default_rng([seed, count, metrics, 78])
    series = [replace(_SERIES[0], metric=f"m{n}") for n in range(metrics)]
    at = np.arange(count)
    courses = [
        course_of_visits(n, "difference", at, NOISES[noise](rng, count) + step * (at * 2 >= count))
        for n in range(metrics)
    ]
    return [bool(search.shifts) for search in search_courses(courses, series)]


def one_dip(releases: int, visits: int, size: float, seed: int) -> bool:
    """Whether a dip of some of twelve releases is found, at one of its ends at least."""
    rng = np.random.default_rng([seed, releases, 79])
    first = int(rng.integers(2, 11 - releases))
    place = np.repeat(np.arange(12), visits)
    inside = (place >= first) & (place < first + releases)
    values = rng.normal(size=len(place)) - size * inside
    (search,) = search_courses([course_of_visits(0, "difference", place, values)], _SERIES)
    return any(s.first in (first, first + releases) for s in search.shifts)


def one_step_beside_a_creep(where: str, seed: int) -> tuple[bool, bool, bool]:
    """Whether anything is found, whether the size of the step is, and its place."""
    rng = np.random.default_rng([seed, len(where), 80])
    first = int(rng.integers(6, 15))
    slope = float(rng.uniform(0.1, 0.5) * rng.choice([-1, 1]))
    by = np.arange(20) - first
    creep = {"before": np.minimum(by, 0), "after": np.maximum(by, 0), "both": by}[where]
    values = slope * creep - 3.0 * (by >= 0) + rng.normal(0, 0.58, 20)
    shifts = shifts_of((values / 100).tolist(), _SERIES[0])
    steps = [s for s in shifts if s.kind == "step"]
    best = max(steps, key=lambda s: abs(s.change), default=None)
    if best is None:
        return bool(shifts), False, False
    return True, best.low <= math.expm1(-0.03) <= best.high, abs(best.first - first) <= 1


def one_empty_search(metrics: int, seed: int) -> bool:
    """Whether a search among metrics without any step says at some visit that one changes."""
    rng = np.random.default_rng([seed, metrics, 81])
    places: list[int] = []
    values: list[np.ndarray] = []
    floors = dict.fromkeys(range(metrics), (0.0, 0))
    while True:
        courses = {
            n: course_of_visits(n, "difference", np.array(places), np.array(values)[:, n])
            for n in range(metrics if places else 0)
        }
        chosen = choose_metric(courses, 0, RELEASES - 1, floors) or 0
        cost = np.ones(RELEASES)
        found = seek(courses.get(chosen), 0, RELEASES - 1, cost, (0.0, 0), metrics)
        if found.shown or found.release is None:
            return found.shown
        places.append(found.release)
        values.append(rng.normal(size=metrics))


def _history(seed: int) -> tuple[np.random.Generator, int]:
    rng = np.random.default_rng([seed, 11])
    return rng, int(rng.integers(0, RELEASES - 1))


def one_search(sd: float, seed: int) -> tuple[str, int]:
    """How a search for a step of 3 % ends, and after how many visits."""
    rng, truth = _history(seed)
    places: list[int] = []
    values: list[float] = []
    course = None
    while len(values) < 60:
        found = seek(course, 0, RELEASES - 1, np.ones(RELEASES), (0.0, 0))
        if found.release is None:
            if found.state is State.FOUND and found.known is not None:
                return ("right" if found.known.best == truth else "wrong"), len(values)
            return str(found.state), len(values)
        places.append(found.release)
        values.append(3.0 * (found.release > truth) + rng.normal(0, sd))
        course = course_of_visits(0, "difference", np.array(places), np.array(values))
    return "not found", len(values)


def plain_bisection(sd: float, seed: int) -> tuple[bool, int]:
    """Bisection as if there were no noise: one visit to either end, then the middle."""
    rng, truth = _history(seed)
    ends = [3.0 * (n > truth) + rng.normal(0, sd) for n in (0, RELEASES - 1)]
    low, high, visits = 0, RELEASES - 1, 2
    while high - low > 1:
        middle = (low + high) // 2
        value = 3.0 * (middle > truth) + rng.normal(0, sd)
        visits += 1
        if abs(value - ends[0]) < abs(value - ends[1]):
            low = middle
        else:
            high = middle
    return low == truth, visits


def everything(sd: float, seed: int) -> bool:
    """Whether one visit to every release finds the place."""
    rng, truth = _history(seed)
    values = 3.0 * (np.arange(RELEASES) > truth) + rng.normal(0, sd, RELEASES)
    known = locate(np.arange(RELEASES), values, RELEASES)
    return known is not None and known.best == truth


def one_ranking(composite: bool, seed: int) -> tuple[bool, list[bool]]:
    """Whether a pair of equals is ordered, and whether intervals of values hold the truth.

    Five hosts, of which three are equal; each round disturbs all alike.
    """
    rng = np.random.default_rng([seed, 3])
    levels = np.array([0.0, 0.0, 0.0, 0.02, 0.05])
    rows = []
    for n, c in itertools.product(range(1, 7), range(5)):
        common = 0.03 * math.sin(7.0 * n + seed)
        noise = rng.normal(0, 0.01, 3 if composite else 1)
        level = 4 + levels[c] + common
        rows += [(s, c, n, 5 * n + c, math.exp(level + x)) for s, x in enumerate(noise)]
    series = [Series(f"w{s}", "duration", "s", "lower", 0.001, role="primary") for s in range(3)]
    series = series if composite else series[:1]
    readings = make_readings(series, tuple("abcde"), *zip(*rows, strict=True))
    place = 0
    if composite:
        index = index_series(readings, [0, 1, 2], 0.001, "index")
        scales = choose_scales(readings)
        readings, _ = add_index(readings, scales, {index: dict.fromkeys(range(3), 1 / 3)})
        place = 3
    found = rank_contestants(
        readings, place, [Contestant(0, c) for c in range(5)], Setting(), relative_to=0
    )
    assert found is not None
    names = [s.configuration for s in found.standings]
    tied = [names.index(name) for name in "abc"]
    ordered = any(
        found.verdicts[pair] in ("better", "worse") for pair in itertools.permutations(tied, 2)
    )
    sign = -1 if composite else 1
    truth = {n: math.exp(sign * (levels["abcde".index(n)])) for n in "bcde"}
    covered = [s.low <= truth[s.configuration] <= s.high
               for s in found.standings if s.configuration in truth]  # fmt: skip
    return ordered, covered


def _row(name: str, value: str, target: str) -> None:
    print(f"{name:<66} {value:>18}   {target}", flush=True)


def _share(hits: list[bool]) -> str:
    if not hits:
        return "–"
    share = float(np.mean(hits))
    return f"{100 * share:.1f} ±{196 * math.sqrt(share * (1 - share) / len(hits)):.1f} %"


def print_series(pool: ProcessPoolExecutor, studies: int) -> None:
    """Error rates and power of the search for steps."""

    def run(kind: str, count: int, sd: float) -> list[tuple[bool, bool, bool | None]]:
        return list(pool.map(partial(one_series, kind, count, sd), range(studies), chunksize=20))

    for noise, count, metrics in itertools.product(NOISES, (8, 12, 20, 30), (1, 20)):
        times = range(studies if metrics == 1 else -(-studies // 10))
        none = pool.map(partial(one_family, noise, count, metrics, 0.0), times, chunksize=5)
        name = f"{count} releases, {metrics} metrics, {noise}: false alarms"
        _row(name, _share([any(f) for f in none]), "<= 6.5 %")
    for of, visits, size in ((4, 1, 5.0), (1, 3, 8.0)):
        dips = list(pool.map(partial(one_dip, of, visits, size), range(studies), chunksize=20))
        name = f"dip of {of} in 12 of {size:g} SD, {visits} visits each: found"
        _row(name, _share(dips), ">= 90 %")
    many = pool.map(
        partial(one_family, "normal", 20, 200, 3 / 0.58), range(-(-studies // 200)), chunksize=1
    )
    _row("20 releases, step of 3 % at 0.58 % in 200 metrics: found",
         _share(list(itertools.chain(*many))), ">= 97 %")  # fmt: skip
    for where in ("before", "after", "both"):
        both = list(pool.map(partial(one_step_beside_a_creep, where), range(studies), chunksize=20))
        told = [f[1:] for f in both if f[0]]
        name = f"step of 3 % at 0.58 %, creep of 0.1 to 0.5 % {where}"
        _row(f"{name}: found", _share([f[0] for f in both]), "")
        _row("  its size holds the truth, where found", _share([f[0] for f in told]), ">= 93 %")
        _row("  its place within one release", _share([f[1] for f in told]), ">= 90 %")
    for sd, target in ((0.58, ">= 97 %"), (1.15, "about 93 %"), (2.31, "about 29 %")):
        found = run("step", 20, sd)
        _row(f"20 releases, step of 3 % at {sd} %: found", _share([f[0] for f in found]), target)
        covered = [bool(f[2]) for f in found if f[2] is not None]
        _row("  its interval holds the truth, where found", _share(covered), "")
        _row("  called a step", _share([f[1] for f in found if f[0]]), "")
    for count in (12, 20):
        found = run("creep", count, 0.58)
        _row(f"{count} releases, creep of 3 %: not called a step",
             _share([not f[1] for f in found]), ">= 90 %")  # fmt: skip
        _row("  found", _share([f[0] for f in found]), "")
        covered = [bool(f[2]) for f in found if f[2] is not None]
        _row("  its interval holds the truth, where found", _share(covered), "")


def print_seeking(pool: ProcessPoolExecutor, histories: int) -> None:
    """Seeking beside plain bisection and beside measuring everything."""
    for metrics in (1, 5, 20):
        none = list(pool.map(partial(one_empty_search, metrics), range(histories), chunksize=10))
        _row(f"64 releases, {metrics} metrics, no step: a change is told", _share(none), "<= 5 %")
    for sd, target in ((0.6, 14), (1.2, 20), (2.3, None)):
        ended = list(pool.map(partial(one_search, sd), range(histories), chunksize=10))
        visits = [n for _, n in ended]
        right = [how == "right" for how, _ in ended]
        wanted = ">= 95 %" if target else "out of reach, said so"
        _row(f"64 releases, step of 3 % at {sd} %: right release", _share(right), wanted)
        median = f"{np.median(visits):g} ({np.quantile(visits, 0.9):g})"
        _row("  visits, median (90th percentile)", median, f"<= {target}" if target else "")
        if target is None:
            given_up = [how not in ("right", "wrong") for how, _ in ended]
            _row("  given up, with what would help", _share(given_up), "")
        plain = [plain_bisection(sd, seed) for seed in range(histories)]
        _row("  plain bisection: right", _share([p[0] for p in plain]), f"{plain[0][1]} visits")
        whole = [everything(sd, seed) for seed in range(histories)]
        _row("  measuring all: right", _share(whole), f"{RELEASES} visits")


def print_rankings(pool: ProcessPoolExecutor, studies: int) -> None:
    """False orders of equals, and coverage."""
    for name, composite in (("one metric", False), ("composite of three", True)):
        found = list(pool.map(partial(one_ranking, composite), range(studies), chunksize=20))
        ordered, covered = [f[0] for f in found], [c for f in found for c in f[1]]
        _row(f"ranking by {name}: some pair of equals ordered", _share(ordered), "<= 6.5 %")
        _row("  intervals of values hold the truth", _share(covered), "93.5 to 96.5 %")


def _studies(directory: Path) -> None:
    """A series of 30 releases with 20 metrics, and 12 configurations with 40 metrics."""
    rng = np.random.default_rng(9)
    first = datetime(2024, 1, 1, tzinfo=UTC)
    for name, count, metrics, rounds in (("series", 30, 20, 1), ("ranking", 12, 40, 5)):
        lines = ["release,workload,metric,unit,visit,round,started_at,value"]
        for c, m, n in itertools.product(range(count), range(metrics), range(1, rounds + 1)):
            at = (first + timedelta(days=30 * c if rounds == 1 else n, minutes=c)).isoformat()
            level = 1 + 0.03 * (c > count // 2) * (m % 2)
            value = 100 * level * math.exp(rng.normal(0, 0.006))
            number = "" if rounds == 1 else str(n)
            lines.append(f"r{c:02d},w{m},rate,fps,{c}-{n},{number},{at},{value:.8g}")
        source = directory / f"{name}.csv"
        source.write_text("\n".join(lines), encoding="utf-8")
        program = str(Path(sys.executable).with_name("ferocal"))
        new = [program, "new", str(directory / name), "--from", str(source), "--factor", "release"]
        subprocess.run(new, check=True, capture_output=True)
    study = directory / "series" / "study.toml"
    text = study.read_text(encoding="utf-8")
    study.write_text(f'{text}\n[factor.release]\norder = "file"\n', encoding="utf-8")


def _fastest(words: list[str], directory: Path, times: int) -> float:
    found = []
    for _ in range(times):
        began = time.perf_counter()
        subprocess.run(words, cwd=directory, check=True, capture_output=True)
        found.append(time.perf_counter() - began)
    return min(found)


def print_times(times: int) -> None:
    """Whole commands, beside reading the same ledger with the standard library and NumPy."""
    program = str(Path(sys.executable).with_name("ferocal"))
    with tempfile.TemporaryDirectory() as scratch:
        directory = Path(scratch)
        _studies(directory)
        for name, words in (("series", ["series", "release"]), ("ranking", ["rank"])):
            own = _fastest([program, *words], directory / name, times)
            plain = _fastest(
                [sys.executable, "-c", PLAIN, "ledger.sqlite"], directory / name, times
            )
            what = "30 releases × 20 metrics" if name == "series" else "12 × 40 × 5 rounds"
            _row(f"ferocal {words[0]}, {what}", f"{own:.2f} s", "< 2 s")
            _row("  over a plain reading of medians", f"{own / plain:.1f} times", "")


def main(studies: int = STUDIES, histories: int = HISTORIES, times: int = scaled(5, 1)) -> None:
    """Print every figure beside its target."""
    with ProcessPoolExecutor() as pool:
        print_series(pool, studies)
        print_seeking(pool, histories)
        print_rankings(pool, studies)
    print_times(times)


if __name__ == "__main__":
    main()
