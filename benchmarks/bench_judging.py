"""One judge behind every question: error rates where noise is unequal, scarce or not normal.

Every figure is printed beside its target. Simulated studies go through the real analysis.
"""

from __future__ import annotations

import itertools
import math
import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np

from sizes import scaled

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from ferocal.analysis.data.index import add_index, index_series
from ferocal.analysis.data.readings import NO_ROUND, Readings, choose_scales
from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.fitting import Attribution, FactorSetting
from ferocal.analysis.factors.questions import find_effects
from ferocal.analysis.inference.between import Pair, Side, compare_effects
from ferocal.analysis.inference.claims import ClaimTest, ClaimVerdict, judge_claims
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.rank.lineup import Contestant
from ferocal.analysis.rank.standings import Ranking, rank_contestants
from ferocal.analysis.series.course import find_courses
from ferocal.analysis.series.newest import judge_newest
from ferocal.analysis.series.steps import search_courses
from simulation import make_readings

T = TypeVar("T")
STUDIES = scaled(2000, 4)
SHAPES = ("normal", "t3", "lognormal")
_SERIES = Series("flight", "rate", "fps", "higher", 0.0)
_APART = Setting(interleaved=False)


def errors(rng: np.random.Generator, shape: str, size: int | tuple[int, ...]) -> np.ndarray:
    """Noise of mean 0 and standard deviation 1."""
    if shape == "t3":
        return np.asarray(rng.standard_t(3, size) / math.sqrt(3))
    if shape == "lognormal":
        skewed = np.exp(0.5 * rng.standard_normal(size))
        middle = math.exp(0.125)
        return np.asarray((skewed - middle) / (middle * math.sqrt(math.exp(0.25) - 1)))
    return np.asarray(rng.standard_normal(size))


def in_rounds(
    rng: np.random.Generator,
    levels: Sequence[float],
    noise: Sequence[float],
    rounds: int,
    *,
    shape: str = "normal",
    missing: float = 0.0,
    shift: float = 0.03,
) -> Readings:
    """One run a visit, all arms in every round but those that are missing."""
    count = len(levels)
    spread = errors(rng, shape, (rounds, count)) * np.array(noise)
    common = shift * rng.standard_normal((rounds, 1))
    value = np.exp(4 + np.array(levels) + common + spread)
    kept = rng.random((rounds, count)) >= missing
    for c in range(count):  # two visits of each at least
        kept[rng.permutation(rounds)[:2], c] = True
    rows = [
        (0, c, n + 1, n * count + c, value[n, c])
        for n, c in itertools.product(range(rounds), range(count))
        if kept[n, c]
    ]
    names = [f"c{c}" for c in range(count)]
    return make_readings([_SERIES], names, *zip(*rows, strict=True))


def apart(
    rng: np.random.Generator, visits: Sequence[int], *, shape: str = "normal", sd: float = 0.02
) -> Readings:
    """Visits without rounds, so many to each arm, all of them equal."""
    rows: list[tuple[int, int, int, int, float]] = []
    for c, count in enumerate(visits):
        rows += [(0, c, NO_ROUND, len(rows) + k, math.exp(4 + x))
                 for k, x in enumerate(sd * errors(rng, shape, count))]  # fmt: skip
    names = [f"c{c}" for c in range(len(visits))]
    return make_readings([_SERIES], names, *zip(*rows, strict=True))


def one_comparison(way: str, shape: str, seed: int) -> bool:
    """Whether the interval holds that nothing differs; 2 to 10 visits a side."""
    rng = np.random.default_rng([seed, 1])
    if way == "rounds":
        rounds = int(rng.integers(2, 11))
        missing = 0.15 if rounds > 3 else 0.0
        readings = in_rounds(rng, [0, 0, 0], [0.02] * 3, rounds, shape=shape, missing=missing)
        setting = Setting()
    elif way == "alike":
        readings = apart(rng, [int(rng.integers(2, 11))] * 2, shape=shape)
        setting = _APART
    else:
        few, many = (2, 10) if way == "2 against 10" else rng.integers(2, 11, 2).tolist()
        readings, setting = apart(rng, [few, many], shape=shape), _APART
    effect = estimate_effects(readings, "c0", setting)[0]
    return effect.low <= 0.0 <= effect.high


def one_attribution(full: bool, seed: int) -> tuple[list[bool], bool]:
    """Whether intervals of factors hold that nothing differs, and whether any effect is found."""
    rng = np.random.default_rng([seed, 2])
    every = [dict(zip("abc", c, strict=True)) for c in itertools.product("01", repeat=3)]
    rows = every if full else [r for r in every if sum(v == "1" for v in r.values()) <= 1]
    noise = [0.05, *[0.01] * (len(rows) - 1)]
    readings = in_rounds(rng, [0.0] * len(rows), noise, 6)
    study = Attribution(readings, 0, FactorSetting(rows, rows[0], 0.02))
    judged = [e.judged for e in find_effects(study) if e.judged is not None]
    return [j.low <= 0 <= j.high for j in judged], any(j.verdict in CHANGED for j in judged)


def one_order(noisy: float, missing: float, seed: int) -> tuple[bool, bool]:
    """Of eight equals: whether a pair is ordered, and whether the order contradicts a verdict."""
    rng = np.random.default_rng([seed, 3])
    noise = [0.01] * 7 + [0.01 * noisy]
    found = _ranked(in_rounds(rng, [0.0] * 8, noise, 6, missing=missing))
    wrong = any(v in CHANGED for v in found.verdicts.values())
    against = any(v is Verdict.WORSE for (a, b), v in found.verdicts.items() if a < b)
    return wrong, against


def _ranked(readings: Readings) -> Ranking:
    contestants = [Contestant(0, c) for c in range(len(readings.configurations))]
    found = rank_contestants(readings, 0, contestants, Setting())
    assert found is not None
    return found


def one_first(count: int, width: float, seed: int) -> tuple[float, bool]:
    """The chance of the first, NaN where it is not shown, and whether it is truly the first."""
    rng = np.random.default_rng([seed, count, 4])
    true = rng.normal(0, width * 0.02, count)
    found = _ranked(in_rounds(rng, true.tolist(), [0.02] * count, 5))
    first = found.standings[0]
    return first.chance, first.configuration == f"c{int(true.argmax())}"


def one_composite(visits: int, seed: int) -> bool:
    """Whether an index of single visits, with the floor of a control arm, holds the truth."""
    rng = np.random.default_rng([seed, visits, 5])
    series = [Series(f"w{s}", "rate", "fps", "higher", 0.02, role="primary") for s in range(3)]
    rows = []
    for visit in range(visits + 2):
        place = max(0, visit - visits + 1)
        shared = rng.normal(0, 0.01)
        rows += [(s, place if visit >= visits else 0, NO_ROUND, visit,
                  math.exp(4 + shared + rng.normal(0, 0.01))) for s in range(3)]  # fmt: skip
    names = ("control", "new", "old")
    readings = make_readings(series, names, *zip(*rows, strict=True))
    index = index_series(readings, [0, 1, 2], 0.02, "index")
    readings, _ = add_index(
        readings, choose_scales(readings), {index: dict.fromkeys(range(3), 1 / 3)}
    )
    found = rank_contestants(
        readings, 3, [Contestant(0, 1), Contestant(0, 2)],
        Setting(interleaved=False, floor_arm="control"), relative_to=0,
    )  # fmt: skip
    assert found is not None
    (other,) = [s for s in found.standings if s.configuration == "old"]
    return other.low <= 1.0 <= other.high


def one_across(visits: int, seed: int) -> bool:
    """Whether a bench is said to lead where both are alike, under any of eight releases."""
    rng = np.random.default_rng([seed, visits, 6])
    rows = []
    for bench, c, visit in itertools.product(range(2), range(8), range(visits)):
        place = (bench * 8 + c) * visits + visit
        rows.append((0, c, NO_ROUND, place, math.exp(4 + 0.01 * rng.standard_normal()), bench))
    columns = list(zip(*rows, strict=True))
    readings = make_readings([_SERIES], [f"r{c}" for c in range(8)], *columns[:5])
    readings = _on_benches(readings, columns[5])

    def floor(among: Readings, series: int, bench: int) -> NoiseFloor | None:
        courses = list(find_courses(among, bench, range(8), interleaved=False))
        (search,) = search_courses(courses, among.series)
        return None if search.spread is None else search.spread.floor("ratio", 1.0)

    contrasts = [Contrast(((Arm(0, 1, c), 1.0), (Arm(0, 0, c), -1.0)), "across") for c in range(8)]
    setting = Setting(interleaved=False, release_floor=floor)
    found = judge_contrasts(readings, contrasts, setting)
    return any(e.verdict in CHANGED for e in found.values())


def _on_benches(readings: Readings, bench: Sequence[int]) -> Readings:
    return replace(readings, benches=("one", "two"), bench_of=np.array(bench))


def one_claim(way: str, degrees: int, seed: int) -> ClaimVerdict:
    """What is said of a change that lies at the edge of what runs vary by.

    The noise is that of visits in rounds, or of an earlier study beside single visits.
    """
    rng = np.random.default_rng([seed, degrees, 7])
    edge = 1.96 * 0.01
    if way == "rounds":
        readings = in_rounds(rng, [0.0, edge], [0.01, 0.01], degrees // 2 + 1, shift=0.0)
        setting = Setting()
    else:
        variance = 1e-4 * rng.chisquare(degrees) / degrees
        floor = NoiseFloor("ratio", variance, degrees, 1.0, math.nan, 0, "an earlier study")
        value = np.exp(4 + np.array([0.0, edge]) + 0.01 * rng.standard_normal(2))
        rows = [(0, c, NO_ROUND, c, value[c]) for c in range(2)]
        readings = make_readings([_SERIES], ("c0", "c1"), *zip(*rows, strict=True))
        setting = Setting(interleaved=False, noise_floors={("node", _SERIES): floor})
    weights = ((Arm(0, 0, 1), 1.0), (Arm(0, 0, 0), -1.0))
    (found,) = judge_claims(
        readings, [ClaimTest(weights, -math.inf, math.inf, noise=True)], setting
    )
    return found.verdict


def one_pipeline(seed: int) -> tuple[bool, bool]:
    """Of a build a night, 4 % slower from night 60 on: a false alarm before, an alarm in time."""
    rng = np.random.default_rng([seed, 8])
    level = rng.normal(0, 0.01, 100)
    level[59:] += math.log(0.96)
    false = False
    for nights in range(2, 63):
        at = list(range(nights))
        columns = ([0] * nights, at, [NO_ROUND] * nights, at, np.exp(level[:nights]).tolist())
        readings = make_readings([_SERIES], [f"b{n}" for n in at], *columns)
        courses = list(find_courses(readings, 0, at, interleaved=False))
        (newest,) = judge_newest(readings, {"node": courses}, at, _APART)
        if newest.verdict is Verdict.WORSE:
            if nights >= 60:
                return false, True
            false = True
    return false, False


def one_consistency(seed: int) -> bool:
    """Whether every question that makes the same contrast gives the same of a random study."""
    rng = np.random.default_rng([seed, 9])
    count, rounds = int(rng.integers(2, 6)), int(rng.integers(2, 8))
    missing = float(rng.choice([0.0, 0.15, 0.4]))
    interleaved = bool(rng.integers(2))
    noise = np.exp(rng.normal(-4, 0.7, count)).tolist()
    readings = in_rounds(rng, rng.normal(0, 0.03, count).tolist(), noise, rounds, missing=missing)
    if not interleaved:
        readings = replace(readings, round_of=np.full(len(readings.value), NO_ROUND))
    setting = Setting(interleaved=interleaved)
    compared = {e.configuration: e for e in estimate_effects(readings, "c0", setting)}
    levels = [{"driver": f"r{c}"} for c in range(count)]
    study = Attribution(readings, 0, FactorSetting(levels, levels[0], 0.02, judging=setting))
    answers: list[dict[str, Estimate]] = []
    answers.append({f"c{e.level[1:]}": e.judged for e in find_effects(study)
                    if e.judged is not None})  # fmt: skip
    contestants = [Contestant(0, c) for c in range(count)]
    ranking = rank_contestants(readings, 0, contestants, setting)
    assert ranking is not None
    place = {s.configuration: n for n, s in enumerate(ranking.standings)}
    answers.append(
        {n: ranking.estimates[k, place["c0"]] for n, k in place.items()
         if (k, place["c0"]) in ranking.estimates}
    )  # fmt: skip
    pairs = [
        Pair(Side(0, 0, c, 0), Side(0, 0, c - 1 if c > 1 else c + 1, 0), "one", "two")
        for c in range(1, count if count > 2 else 1)
    ]
    between = compare_effects(readings, pairs, setting)
    answers.append({d.first.configuration: d.first for d in between})
    weights = [((Arm(0, 0, c), 1.0), (Arm(0, 0, 0), -1.0)) for c in range(1, count)]
    claims = judge_claims(readings, [ClaimTest(w, -1.0, 1.0) for w in weights], setting)
    answers.append({f"c{n}": j.estimate for n, j in enumerate(claims, 1) if j.estimate})
    return all(
        (e.shift, e.method) == (compared[name].shift, compared[name].method)
        or math.isnan(e.shift.low)
        for answer in answers
        for name, e in answer.items()
    )


def _row(name: str, value: str, target: str) -> None:
    print(f"{name:<66} {value:>16}   {target}", flush=True)


def _share(hits: Sequence[bool]) -> str:
    share = float(np.mean(hits))
    return f"{100 * share:.1f} ±{196 * math.sqrt(share * (1 - share) / len(hits)):.1f} %"


class _Bench:
    def __init__(self, pool: ProcessPoolExecutor) -> None:
        self.pool = pool

    def run(self, one: Callable[[int], T], studies: int = STUDIES) -> list[T]:
        return list(self.pool.map(one, range(studies), chunksize=20))

    def comparisons(self) -> None:
        for way, shape in itertools.product(("rounds", "alike", "unlike"), SHAPES):
            hits = self.run(partial(one_comparison, way, shape))
            kind = {"rounds": "in rounds, 15 % missing", "alike": "as many visits a side",
                    "unlike": "any numbers of visits"}[way]  # fmt: skip
            _row(f"2 to 10, {kind}, {shape}: covered", _share(hits), "93 to 97 %")
        hits = self.run(partial(one_comparison, "2 against 10", "normal"))
        _row("2 visits against 10: covered", _share(hits), ">= 93 %")

    def attributions(self) -> None:
        for full in (True, False):
            found = self.run(partial(one_attribution, full))
            kind = "full" if full else "one factor at a time"
            each = [hit for hits, _ in found for hit in hits]
            _row(f"factors, {kind}, baseline 5x as noisy: covered", _share(each), ">= 93 %")
            _row("  any false effect", _share([wrong for _, wrong in found]), "<= 6.5 %")

    def orders(self) -> None:
        for noisy, missing in itertools.product((5.0, 10.0), (0.0, 0.15)):
            found = self.run(partial(one_order, noisy, missing))
            name = f"rank, 8 equals, one {noisy:g}x as noisy, {missing:.0%} missing"
            _row(f"{name}: any order", _share([w for w, _ in found]), "<= 6.5 %")
            _row("  order against a verdict", str(sum(a for _, a in found)), "0")

    def firsts(self) -> None:
        for count in (3, 8, 20):
            found = []
            for width in (0.2, 0.5, 1.0, 2.0):
                found += self.run(partial(one_first, count, width))
            said, right = np.array(found, dtype=float).T
            shown = ~np.isnan(said)
            bins = np.minimum((said[shown] * 5).astype(int), 4)
            apart_by = [
                100 * float(np.mean(said[shown][bins == b] - right[shown][bins == b]))
                for b in range(5)
                if np.sum(bins == b) >= 50
            ]
            text = " ".join(f"{x:+.1f}" for x in apart_by)
            _row(f"chance of first, {count}, close and wide: said less right, by bin", text,
                 "within 5 points")  # fmt: skip
            _row("  not shown", _share((~shown).tolist()), "")

    def floors(self) -> None:
        for degrees in (2, 3, 9):
            hits = self.run(partial(one_composite, degrees + 1))
            _row(f"composite, noise floor of {degrees} degrees: covered", _share(hits),
                 ">= 93.5 %")  # fmt: skip
        for visits in (1, 3):
            found = self.run(partial(one_across, visits), scaled(1000, 2))
            _row(f"across benches, {visits} visits, 8 releases: false alarms", _share(found),
                 "<= 6.5 %")  # fmt: skip

    def claims(self) -> None:
        for way, degrees in itertools.product(("rounds", "single visits"), (4, 10, 30)):
            found = self.run(partial(one_claim, way, degrees))
            shares = [v is ClaimVerdict.SUPPORTED for v in found]
            _row(f"claim at the edge of the noise, {way}, {degrees} degrees: supported",
                 _share(shares), "<= 6.5 %")  # fmt: skip

    def pipelines(self) -> None:
        found = self.run(one_pipeline, scaled(500, 2))
        _row("100 nights: any false alarm before night 60", _share([f for f, _ in found]),
             "<= 10 %")  # fmt: skip
        _row("  4 % worse from night 60 on: alarm by night 62", _share([a for _, a in found]),
             ">= 90 %")  # fmt: skip

    def consistencies(self) -> None:
        same = self.run(one_consistency, scaled(500, 4))
        _row("random studies in which all questions agree", f"{sum(same)} of {len(same)}", "all")


def main() -> None:
    """Print every figure beside its target."""
    with ProcessPoolExecutor() as pool:
        bench = _Bench(pool)
        parts = sys.argv[1:] if len(sys.argv) > 1 and not sys.argv[1].startswith("--") else [
            "comparisons", "attributions", "orders", "firsts", "floors", "claims", "pipelines",
            "consistencies",
        ]  # fmt: skip
        for part in parts:
            getattr(bench, part)()


if __name__ == "__main__":
    main()
