"""What cannot be told apart, and which further combinations would tell it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.factors.design import FactorDesign, Levels, Term, code
from ferocal.terms.frozen import dataclass

# Of more combinations only the neighbours of those that there are come into question.
_MOST_COMBINATIONS = 4096
_ZERO = 1e-9
CostOf = Callable[[Levels], float]
Allowed = Callable[[Levels], bool]


@dataclass(frozen=True)
class Confounding:
    """Effects that always came together; ``separate`` is the combination that would tell."""

    terms: tuple[Term, ...]
    separate: Levels | None


def find_confounding(
    design: FactorDesign,
    allowed: Allowed,
    grid: Mapping[str, Sequence[str]] | None = None,
    cost_of: CostOf | None = None,
) -> tuple[Confounding, ...]:
    """Main effects that the combinations cannot tell apart, each with what would.

    Parameters
    ----------
    design
        What was, or is to be, measured.
    allowed
        Whether a combination can be measured.
    grid
        All levels of the factors; by default those of the design.
    cost_of
        What measuring a combination costs; by default all cost the same.
    """
    terms = design.main_terms
    vectors = design.null_vectors(terms)
    separation = _Separation(design, terms, grid or design.factors, allowed, cost_of)
    return tuple(
        Confounding(
            tuple(term for term, weight in zip(terms, vector, strict=True) if abs(weight) > _ZERO),
            separation.best(vector),
        )
        for vector in vectors
    )


def find_blind_pairs(
    design: FactorDesign, allowed: Allowed
) -> tuple[tuple[tuple[str, str], Levels | None], ...]:
    """Pairs of factors of which no interaction is estimable, each with what would show one."""
    known = {term.factors for term in design.estimable_interactions}
    terms = (*design.main_terms, *design.interaction_terms)
    separation = _Separation(design, terms, design.factors, allowed, None)
    null = design.null_vectors(terms)
    found = []
    for pair in itertools.combinations(design.factors, 2):
        if pair in known:
            continue
        own = np.array([term.factors == pair for term in terms], dtype=bool)
        vectors = null[np.any(np.abs(null[:, own]) > _ZERO, axis=1)]
        found.append((pair, separation.best(vectors[0]) if len(vectors) else None))
    return tuple(found)


def _candidates(
    design: FactorDesign, grid: Mapping[str, Sequence[str]], allowed: Allowed
) -> Iterator[Levels]:
    """Combinations that can be measured and were not, the nearest to those first."""
    if not design.rows:
        return
    fixed = {f: v for f, v in design.rows[0].items() if f not in grid}
    known = {tuple(row[f] for f in grid) for row in design.rows}
    if math.prod(len(levels) for levels in grid.values()) <= _MOST_COMBINATIONS:
        every: Iterable[tuple[str, ...]] = itertools.product(*grid.values())
    else:
        every = dict.fromkeys(
            tuple(level if g == f else row[g] for g in grid)
            for row in design.rows
            for f, levels in grid.items()
            for level in levels
        )
    for values in every:
        levels = {**fixed, **dict(zip(grid, values, strict=True))}
        if values not in known and allowed(levels):
            yield levels


class _Separation:
    """Combinations that can be measured and were not, by what each would tell and cost."""

    def __init__(
        self,
        design: FactorDesign,
        terms: Sequence[Term],
        grid: Mapping[str, Sequence[str]],
        allowed: Allowed,
        cost_of: CostOf | None,
    ) -> None:
        self._candidates = list(_candidates(design, grid, allowed))
        if not self._candidates:
            return
        # In common rounds with the others, a vector is what it is with any of those.
        self._coded = code(self._candidates, terms) - code(design.rows[:1], terms)
        cost = cost_of or (lambda levels: 0.0)
        keys = (map(cost, self._candidates), *_distances(design, self._candidates))
        self._keys = list(zip(*keys, strict=True))

    def best(self, vector: FloatArray) -> Levels | None:
        """The cheapest and nearest combination for which the vector is not nothing."""
        if not self._candidates:
            return None
        able = np.flatnonzero(np.abs(self._coded @ vector) > _ZERO).tolist()
        place = min(able, key=self._keys.__getitem__, default=None)
        return None if place is None else self._candidates[place]


def _distances(design: FactorDesign, candidates: Sequence[Levels]) -> tuple[list[int], list[int]]:
    """In how many levels each differs from the nearest row, and from the references."""
    factors = list(design.rows[0])
    shape = (len(candidates), len(design.rows))
    apart, away = np.zeros(shape, dtype=int), np.zeros(len(candidates), dtype=int)
    for factor in factors:
        levels = np.array([candidate[factor] for candidate in candidates])
        apart += levels[:, None] != np.array([row[factor] for row in design.rows])
        if factor in design.factors:
            away += levels != design.factors[factor][0]
    return apart.min(axis=1).tolist(), away.tolist()


def separating_set(
    grid: Mapping[str, Sequence[str]],
    baseline: Levels,
    present: Sequence[Levels],
    interactions: Sequence[tuple[str, str]],
    allowed: Allowed,
    cost_of: CostOf,
) -> tuple[tuple[Levels, ...], tuple[Term, ...]]:
    """The fewest combinations that separate all main effects and the interactions named.

    Sets of combinations that are independent are a matroid, so that taking the cheapest that
    adds anything, again and again, ends with as few as can be at the least cost (Edmonds 1971,
    Matroids and the greedy algorithm). Those ``present`` cost nothing. Returned are these
    combinations, the baseline first, and the terms that nothing allowed can separate.
    """
    rows = (baseline, *present)
    design = FactorDesign({f: tuple(v) for f, v in grid.items()}, rows, (0,) * len(rows))
    terms = [
        *design.main_terms,
        *(t for t in design.interaction_terms if t.factors in interactions),
    ]
    ordered = [*rows, *sorted(_candidates(design, grid, allowed), key=cost_of)]
    chosen: list[Levels] = []
    basis: list[FloatArray] = []
    coded = np.hstack([np.ones((len(ordered), 1)), code(ordered, terms)])
    for levels, row in zip(ordered, coded, strict=True):
        left = row - sum((b * float(b @ row) for b in basis), np.zeros_like(row))
        if np.linalg.norm(left) > 1e-7:
            basis.append(left / np.linalg.norm(left))
            chosen.append(levels)
    final = FactorDesign(design.factors, tuple(chosen), (0,) * len(chosen))
    open_terms = ~final.estimable(terms)
    return tuple(chosen), tuple(t for t, still in zip(terms, open_terms, strict=True) if still)
