"""Attribution to factors: coverage, lack of fit, aliases, and how long it takes.

Every figure is printed beside its target. Simulated studies go through the real analysis.
"""

from __future__ import annotations

import itertools
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from ferocal.analysis.attribution.confounding import find_confounding
from ferocal.analysis.attribution.design import FactorDesign, code, make_design
from ferocal.analysis.attribution.fitting import Attribution, FactorSetting
from ferocal.analysis.attribution.questions import (
    find_effects,
    find_interactions,
    find_lack_of_fit,
)
from simulation import simulate_factors

STUDIES = 2000
Rows = list[dict[str, str]]
_ALL = {"driver": "ab", "api": "abc", "shell": "ab"}


def _full() -> Rows:
    return [dict(zip(_ALL, c, strict=True)) for c in itertools.product(*_ALL.values())]


def _one_factor() -> Rows:
    return [row for row in _full() if sum(v != "a" for v in row.values()) <= 1]


def _arbitrary(rng: np.random.Generator) -> Rows:
    rows = _full()
    chosen = [0, *(1 + rng.permutation(len(rows) - 1)[:7])]
    return [rows[n] for n in chosen]


def _truth(
    rng: np.random.Generator, rows: Rows, *, acting: bool
) -> tuple[dict[str, float], list[float]]:
    """Effects of levels and pairs, and the logarithm of every configuration."""
    design = make_design(_full(), _full()[0], [0] * len(_full()))
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
    shares = coverage(lambda rng: _full(), acting=False, deviation=0.015)
    _row(
        "full, configurations off by the noise: main effects covered",
        _interval(shares[0], STUDIES),
        "93.5 to 96.5 %",
    )
    _row("  lack of fit told", _interval(shares[2], STUDIES), "most")
    right, proposed, separating = aliases()
    _row("aliases as by rank, of 200 random designs", str(right), "200")
    _row("proposals that separate", f"{separating} of {proposed}", "all")
    began = time.perf_counter()
    rng = np.random.default_rng(9)
    rows: Rows = [dict(zip("abcde", c, strict=True)) for c in itertools.product(*["01"] * 5)]
    readings = simulate_factors(rng, [0.0] * 32, rounds=10, metrics=40)
    began = time.perf_counter()
    attribution = Attribution(readings, 0, FactorSetting(rows, rows[0], 0.02))
    find_effects(attribution)
    find_interactions(attribution)
    seconds = time.perf_counter() - began
    _row("analysis of 5 factors, 40 workloads, 10 rounds", f"{seconds:.2f} s", "below 1.5 s in all")


if __name__ == "__main__":
    main()
