"""Attribution to factors: coverage, lack of fit, aliases, and how long it takes.

Every figure is printed beside its target. Simulated studies go through the real analysis.
"""

from __future__ import annotations

import itertools
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from sizes import scaled

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from ferocal.analysis.data.derived import add_derived
from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.confounding import find_confounding
from ferocal.analysis.factors.design import FactorDesign, code, make_design
from ferocal.analysis.factors.fitting import Attribution, FactorSetting
from ferocal.analysis.factors.questions import (
    find_effects,
    find_interactions,
    find_lack_of_fit,
)
from ferocal.analysis.inference.between import Pair, Side, compare_effects
from ferocal.analysis.inference.claims import ClaimTest, ClaimVerdict, judge_claims
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.formulas import Formula, Operation, Reading
from simulation import make_readings, simulate, simulate_factors

STUDIES = scaled(2000, 3)
Rows = list[dict[str, str]]
_ALL = {"driver": "ab", "api": "abc", "shell": "ab"}


_EVERY: Rows = [dict(zip(_ALL, c, strict=True)) for c in itertools.product(*_ALL.values())]
_WHOLE = make_design(_EVERY, _EVERY[0], [0] * len(_EVERY))


def _full() -> Rows:
    return list(_EVERY)


def _one_factor() -> Rows:
    return [row for row in _full() if sum(v != "a" for v in row.values()) <= 1]


def _arbitrary(rng: np.random.Generator) -> Rows:
    rows = _full()
    chosen = [0, *(1 + rng.permutation(len(rows) - 1)[:7])]
    return [rows[n] for n in chosen]


def _wide(rng: np.random.Generator) -> Rows:
    return [{**row, "host": h, "shade": s} for row in _full() for h in "ab" for s in "ab"]


def _truth(
    rng: np.random.Generator, rows: Rows, *, acting: bool
) -> tuple[dict[str, float], list[float]]:
    """Effects of levels and pairs, and the logarithm of every configuration."""
    design = make_design(rows, rows[0], [0] * len(rows)) if len(rows) > 12 else _WHOLE
    terms = (*design.main_terms, *(design.interaction_terms if acting else ()))
    sizes = rng.normal(0, 0.03, len(terms))
    effects = {t.text: float(s) for t, s in zip(terms, sizes, strict=True)}
    return effects, (code(rows, terms) @ sizes).tolist()


def coverage(
    make: Callable[[np.random.Generator], Rows],
    *,
    acting: bool,
    deviation: float = 0.0,
    missing: float = 0.0,
    seed: int = 1,
) -> tuple[float, float, float]:
    """Shares: main effects covered, interactions covered, studies with lack of fit told.

    True main effects are contrasts of the truth with the weights of the model.
    """  # fmt: skip
    rng = np.random.default_rng(seed)
    covered, acted, lacking, studies = [], [], 0, 0
    for _ in range(STUDIES):
        rows = make(rng)
        effects, logs = _truth(rng, rows, acting=acting)
        logs = [x + rng.normal(0, deviation) for x in logs]
        readings = simulate_factors(rng, logs, missing=missing)
        attribution = Attribution(readings, 0, FactorSetting(rows, rows[0], 0.02))
        fit = next(iter(attribution.fits.values()))
        truth = np.array([effects.get(t.text, 0.0) for t in fit.model.terms])
        for e in find_effects(attribution):
            if e.estimable and e.judged is not None:
                true = float(np.expm1(fit.model.main(e.factor, e.level) @ truth))
                covered.append(e.judged.low <= true <= e.judged.high)
        for i in find_interactions(attribution):
            true = np.expm1(effects.get(f"{i.other}={i.other_level} × {i.factor}={i.level}", 0.0))
            acted.append(i.judged.low <= true <= i.judged.high)
        found = find_lack_of_fit(attribution)
        studies += bool(found)
        lacking += any(lack.p_value < 0.05 for lack in found)
    share = lacking / studies if studies else float("nan")
    return float(np.mean(covered)), float(np.mean(acted)) if acted else float("nan"), share


def random_designs(count: int, seed: int = 5) -> Iterator[tuple[FactorDesign, Rows]]:
    """Random designs of up to 5 factors with 4 levels each, with all their combinations."""
    rng = np.random.default_rng(seed)
    while count:
        levels = [rng.integers(2, 5) for _ in range(rng.integers(2, 6))]
        grid = {f"f{n}": [f"v{k}" for k in range(size)] for n, size in enumerate(levels)}
        every = [dict(zip(grid, c, strict=True)) for c in itertools.product(*grid.values())]
        size = min(len(every), int(rng.integers(2, 2 + sum(levels))))
        rows = [every[n] for n in rng.permutation(len(every))[:size]]
        design = make_design(rows, rows[0], [0] * len(rows))
        if design.factors:
            count -= 1
            yield design, every


def aliases(count: int = 200) -> tuple[int, int, int]:
    """Designs in which the aliases found are those of the rank, proposals, and those that work."""
    right = proposed = separating = 0
    for design, _ in random_designs(count):
        terms = design.main_terms
        matrix = np.hstack([np.ones((len(design.rows), 1)), code(design.rows, terms)])
        rank = np.linalg.matrix_rank(matrix)
        expected = {
            t for n, t in enumerate(terms)
            if np.linalg.matrix_rank(np.delete(matrix, n + 1, axis=1)) == rank
        }  # fmt: skip
        found = find_confounding(design, lambda levels: True)
        right += {t for c in found for t in c.terms} == expected
        for confounding in found:
            if confounding.separate is not None:
                proposed += 1
                rows = [*design.rows, confounding.separate]
                wider = np.hstack([np.ones((len(rows), 1)), code(rows, terms)])
                separating += np.linalg.matrix_rank(wider) > rank
    return right, proposed, separating


def ratios_of_ratios() -> float:
    """The share of intervals of a ratio of ratios that hold the truth; rounds disturb all."""
    rng = np.random.default_rng(6)
    series = [Series(name, "rate", "fps", "higher", 0.02) for name in ("flight", "export")]
    covered = 0
    for _ in range(STUDIES):
        truth = rng.normal(0, 0.05)
        rows = [
            (s, c, r, 2 * r + c, np.exp(4 + common + 0.1 * c + c * s * truth + rng.normal(0, 0.02)))
            for r in range(6)
            for common in (rng.normal(0, 0.1),)
            for c in range(2)
            for s in range(2)
        ]
        readings = make_readings(series, ("base", "new"), *zip(*rows, strict=True))
        pair = Pair(Side(0, 0, 1, 0), Side(1, 0, 1, 0), "flight", "export")
        (found,) = compare_effects(readings, [pair], Setting())
        covered += found.estimate.shift.low <= truth <= found.estimate.shift.high
    return covered / STUDIES


def derived_differences() -> float:
    """The share of intervals of "page - idle" that hold the truth, of two workloads of a visit."""
    rng = np.random.default_rng(7)
    names = ("page", "idle", "over-idle")
    series = [Series(n, "memory", "MiB", "lower", 0.02) for n in names]
    page, idle = (Reading(n, "memory", 1.0) for n in names[:2])
    formula = Formula("page - idle", Operation("-", page, idle), 1.0, across=True)
    covered = 0
    for _ in range(STUDIES):
        truth = float(rng.uniform(-0.1, 0.1))
        rows = []
        for r, c in itertools.product(range(6), range(2)):
            boot = rng.normal(0, 3)  # a boot shifts both alike
            for s, middle in enumerate((500.0 + 200.0 * truth * c, 300.0)):
                rows += [(s, c, r, 2 * r + c, middle + boot + rng.normal(0, 2)) for _ in range(3)]
        readings = make_readings(series, ("base", "new"), *zip(*rows, strict=True))
        readings, _ = add_derived(readings, {2: formula}, {})
        effect = estimate_effects(readings, "base")[-1]
        covered += effect.low <= truth <= effect.high
    return covered / STUDIES


def claims_refuted() -> float:
    """The share of studies in which one of ten claims that are just true is refuted."""
    rng = np.random.default_rng(8)
    wrong = 0
    for _ in range(STUDIES):
        readings = simulate(rng, metrics=10, rounds=6, drift=0.0)
        tests = [
            ClaimTest(((Arm(s, 0, 1), 1.0), (Arm(s, 0, 0), -1.0)), -np.inf, 0.0) for s in range(10)
        ]
        verdicts = {c.verdict for c in judge_claims(readings, tests, Setting())}
        wrong += ClaimVerdict.REFUTED in verdicts
    return wrong / STUDIES


def seconds_of_the_command() -> float:
    """The fastest of five calls of `ferocal factors` on 5 factors, 40 workloads, 10 rounds."""
    rng = np.random.default_rng(9)
    program = str(Path(sys.executable).with_name("ferocal"))
    with tempfile.TemporaryDirectory() as directory:
        head = [*"abcde", "workload", "metric", "unit", "round", "value"]
        lines = [",".join(head)]
        for levels in itertools.product("01", repeat=5):
            for workload, number in itertools.product(range(scaled(40, 2)), range(1, 11)):
                value = 100 * (1 + 0.05 * int(levels[0])) * rng.normal(1, 0.01)
                named = [f"{factor}{level}" for factor, level in zip("abcde", levels, strict=True)]
                place = [*named, f"w{workload}", "rate", "fps", str(number)]
                lines.append(",".join([*place, f"{value:.6g}"]))
        Path(directory, "in.csv").write_text("\n".join(lines), encoding="utf-8")
        columns = [word for factor in "abcde" for word in ("--factor", factor)]
        new = [program, "new", "st", "--from", "in.csv", *columns]
        subprocess.run(new, cwd=directory, check=True, capture_output=True)
        times = []
        for _ in range(scaled(5, 1)):
            began = time.perf_counter()
            subprocess.run(
                [program, "factors", "--study", "st"],
                cwd=directory,
                check=True,
                capture_output=True,
            )
            times.append(time.perf_counter() - began)
    return min(times)


def _row(name: str, value: str, target: str) -> None:
    print(f"{name:<66} {value:>16}   {target}")


def _interval(share: float, count: float) -> str:
    if np.isnan(share):
        return "-"
    return f"{100 * share:.1f} ±{196 * np.sqrt(share * (1 - share) / count):.1f} %"


def main() -> None:
    """Print every figure beside its target."""
    cases: list[tuple[str, Callable[[np.random.Generator], Rows], bool, float]] = [
        ("full, factors acting on each other", lambda rng: _full(), True, 0.0),
        ("full", lambda rng: _full(), False, 0.0),
        ("one factor at a time", lambda rng: _one_factor(), False, 0.0),
        ("arbitrary, 15 % of visits missing", _arbitrary, False, 0.15),
    ]
    for name, make, acting, missing in cases:
        main_share, acted, lacking = coverage(make, acting=acting, missing=missing)
        _row(f"{name}: main effects covered", _interval(main_share, STUDIES), "93.5 to 96.5 %")
        _row("  interactions covered", _interval(acted, STUDIES), "93.5 to 96.5 %")
        _row("  lack of fit told where there is none", _interval(lacking, STUDIES), "about 5 %")
    rough = "configurations off by the noise"
    wide, _, told = coverage(_wide, acting=False, deviation=0.015)
    _row(f"48 {rough}: main effects covered", _interval(wide, STUDIES), "93.5 to 96.5 %")
    _row("  lack of fit told", _interval(told, STUDIES), "nearly all")
    few, _, told = coverage(lambda rng: _full(), acting=False, deviation=0.015)
    _row(f"12 {rough}, too few to tell: covered", _interval(few, STUDIES), "61 to 77 %, told")
    _row("  lack of fit told", _interval(told, STUDIES), "most")
    right, proposed, separating = aliases()
    _row("aliases as by rank, of 200 random designs", str(right), "200")
    _row("proposals that separate", f"{separating} of {proposed}", "all")
    _row("ratio of ratios covered", _interval(ratios_of_ratios(), STUDIES), "93.5 to 96.5 %")
    _row("page - idle covered", _interval(derived_differences(), STUDIES), "93.5 to 96.5 %")
    _row("one of ten true claims refuted", _interval(claims_refuted(), STUDIES), "<= 6.5 %")
    seconds = seconds_of_the_command()
    _row("ferocal factors, 5 factors, 40 workloads, 10 rounds", f"{seconds:.2f} s", "< 1.5 s")


if __name__ == "__main__":
    main()
