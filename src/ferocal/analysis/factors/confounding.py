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
    candidates = list(_candidates(design, grid or design.factors, allowed))
    return tuple(
        Confounding(
            tuple(term for term, weight in zip(terms, vector, strict=True) if abs(weight) > _ZERO),
            _best_separation(design, vector, candidates, terms, cost_of),
        )
        for vector in vectors
    )


def find_blind_pairs(
    design: FactorDesign, allowed: Allowed
) -> tuple[tuple[tuple[str, str], Levels | None], ...]:
    """Pairs of factors of which no interaction is estimable, each with what would show one."""
    known = {term.factors for term in design.estimable_interactions}
    terms = (*design.main_terms, *design.interaction_terms)
    candidates = list(_candidates(design, design.factors, allowed))
    found = []
    for pair in itertools.combinations(design.factors, 2):
        if pair in known:
            continue
        vectors = [
            v for v in design.null_vectors(terms)
            if any(abs(w) > _ZERO and t.factors == pair for t, w in zip(terms, v, strict=True))
        ]  # fmt: skip
        best = _best_separation(design, vectors[0], candidates, terms, None) if vectors else None
        found.append((pair, best))
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


def _best_separation(
    design: FactorDesign,
    vector: FloatArray,
    candidates: Sequence[Levels],
    terms: Sequence[Term],
    cost_of: CostOf | None,
) -> Levels | None:
    """The cheapest and nearest combination for which the vector is not nothing."""
    if not candidates:
        return None
    coded = code(candidates, terms)
    # In common rounds with the others, the vector is what it is with any of those.
    constant = float(code(design.rows[:1], terms)[0] @ vector)
    parts = np.abs(coded @ vector - constant) > _ZERO
    able = [levels for levels, part in zip(candidates, parts, strict=True) if part]
    cost = cost_of or (lambda levels: 0.0)
    return min(able, key=lambda c: (cost(c), _distance(design, c)), default=None)


def _distance(design: FactorDesign, levels: Levels) -> tuple[int, int]:
    """How many levels differ from the nearest row, and from the references."""
    nearest = min(sum(levels[f] != row[f] for f in row) for row in design.rows)
    return nearest, sum(levels[f] != known[0] for f, known in design.factors.items() if f in levels)


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
