"""Designs: levels of factors as columns of numbers, and which effects they can tell apart."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.terms.frozen import dataclass

Levels = Mapping[str, str]
# Rank is that of small whole numbers; what is below this is rounding.
_ZERO = 1e-9


@dataclass(frozen=True, order=True)
class Term:
    """The effect of one level against the first, or of two levels beyond that of each.

    ``levels`` are pairs of factor and level, one or two of them.
    """

    levels: tuple[tuple[str, str], ...]

    @property
    def text(self) -> str:
        """The term in words, such as "driver=r64 × api=vulkan"."""
        return " × ".join(f"{factor}={level}" for factor, level in self.levels)

    @property
    def factors(self) -> tuple[str, ...]:
        """The factors that it is on."""
        return tuple(factor for factor, _ in self.levels)


@dataclass(frozen=True)
class FactorDesign:
    """Combinations of levels; those of ``factors`` are in order, the reference first.

    ``rows`` are the combinations, ``block_of`` numbers which of them were measured in common
    rounds, directly or by way of others.
    """

    factors: Mapping[str, tuple[str, ...]]
    rows: tuple[Levels, ...]
    block_of: tuple[int, ...]

    @functools.cached_property
    def main_terms(self) -> tuple[Term, ...]:
        """The effect of every level but the first of each factor."""
        return tuple(Term(((f, v),)) for f, levels in self.factors.items() for v in levels[1:])

    @functools.cached_property
    def interaction_terms(self) -> tuple[Term, ...]:
        """Every pair of levels of two factors but their first."""
        return tuple(
            Term(((f, v), (g, w)))
            for (f, levels), (g, others) in itertools.combinations(self.factors.items(), 2)
            for v in levels[1:]
            for w in others[1:]
        )

    def null_vectors(self, terms: Sequence[Term]) -> FloatArray:
        """What the combinations cannot tell apart, shape (k, t): see `null_vectors`."""
        return null_vectors(code(self.rows, terms), np.array(self.block_of))

    def estimable(self, terms: Sequence[Term]) -> np.ndarray:
        """Which of the effects are determined when all of them may be there, shape (t,)."""
        vectors = self.null_vectors(terms)
        found: np.ndarray = ~np.any(np.abs(vectors) > _ZERO, axis=0)
        return found

    @functools.cached_property
    def estimable_interactions(self) -> tuple[Term, ...]:
        """The interactions that are determined beside all main effects and each other."""
        terms = (*self.main_terms, *self.interaction_terms)
        fits = self.estimable(terms)[len(self.main_terms) :]
        return tuple(t for t, fit in zip(self.interaction_terms, fits, strict=True) if fit)


def make_design(rows: Sequence[Levels], reference: Levels, blocks: Sequence[int]) -> FactorDesign:
    """The design of combinations that were measured.

    Factors that have one level only are left out. The reference level of each factor is that of
    ``reference`` where it was measured, else the first.
    """
    factors = {}
    for factor in reference:
        levels = list(dict.fromkeys(row[factor] for row in rows))
        levels.sort(key=lambda level: level != reference[factor])
        if len(levels) > 1:
            factors[factor] = tuple(levels)
    return FactorDesign(factors, tuple(rows), tuple(blocks))


def code(rows: Iterable[Levels], terms: Sequence[Term]) -> FloatArray:
    """1 where a combination has the levels of a term, else 0; shape (rows, terms)."""
    known = list(rows)
    holds = {
        (factor, level): np.array([row.get(factor) == level for row in known], dtype=bool)
        for factor, level in dict.fromkeys(pair for term in terms for pair in term.levels)
    }
    found = np.ones((len(known), len(terms)))
    for column, term in enumerate(terms):
        for pair in term.levels:
            found[:, column] *= holds[pair]
    return found


def null_vectors(matrix: FloatArray, block_of: IntArray) -> FloatArray:
    """Sums of columns that no row can tell from the means of blocks, reduced; shape (k, t).

    Each vector has 1 at the last column that it holds and no other vector does, the columns
    before it in their order. A coefficient is estimable exactly when it is 0 in all of them
    (Searle 1971, Linear Models, 5.4).
    """
    blocks = np.unique(block_of)
    means = (block_of[:, None] == blocks[None, :]).astype(float)
    reduced, pivots = _reduce(np.hstack([means, matrix]))
    free = [n for n in range(reduced.shape[1]) if n not in pivots]
    vectors = np.zeros((len(free), reduced.shape[1]))
    for k, column in enumerate(free):
        vectors[k, column] = 1.0
        vectors[k, pivots] = -reduced[: len(pivots), column]
    return vectors[:, len(blocks) :]


def _reduce(matrix: FloatArray) -> tuple[FloatArray, list[int]]:
    """The reduced row echelon form, and its pivot columns."""
    work = np.unique(matrix, axis=0)
    pivots: list[int] = []
    for column in range(work.shape[1]):
        top = len(pivots)
        if top == len(work):
            break
        row = top + int(np.argmax(np.abs(work[top:, column])))
        if abs(work[row, column]) <= _ZERO:
            continue
        work[[top, row]] = work[[row, top]]
        work[top] /= work[top, column]
        others = np.arange(len(work)) != top
        work[others] -= np.outer(work[others, column], work[top])
        pivots.append(column)
    return work, pivots
