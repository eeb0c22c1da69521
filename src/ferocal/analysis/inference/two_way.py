"""Arms and rounds that add up: least squares where not every arm is in every round."""

from __future__ import annotations

import functools
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.terms.frozen import dataclass

# Eigenvalues of a hundred arms, which are counts, differ from nothing by less than this.
_ZERO = 1e-9


class RoundEstimate(NamedTuple):
    """A contrast within rounds: ``square`` is its squared standard error, NaN where unknown.

    ``spread`` is what the variance of one visit is multiplied by in it.
    """

    mean: float
    square: float
    degrees: float
    spread: float


@dataclass(frozen=True)
class TwoWay:
    """Which arms were visited in which rounds: ``arm`` and ``block`` count from 0, shape (n,).

    Each arm is there once a round at most. The model is that a visit is the mean of its arm and
    the common shift of its round (Yates 1934, The analysis of multiple classifications with
    unequal numbers in the different classes, Journal of the American Statistical Association 29,
    51-66). The errors of contrasts are robust against arms that vary by different amounts: by
    round, with the correction CR2 and its degrees of freedom (Bell and McCaffrey 2002, Survey
    Methodology 28, 169-181; Pustejovsky and Tipton 2018, Journal of Business and Economic
    Statistics 36, 672-683). Of two arms that are in all rounds they are those of Student's paired
    test.
    """

    arm: IntArray
    block: IntArray

    @functools.cached_property
    def _columns(self) -> FloatArray:
        """A column per arm without what rounds have in common, shape (n, k)."""
        present = np.zeros((int(self.block.max()) + 1, int(self.arm.max()) + 1))
        present[self.block, self.arm] = 1.0
        shares = np.asarray(present / present.sum(axis=1, keepdims=True), dtype=np.float64)
        columns = -shares[self.block]
        columns[np.arange(len(self.arm)), self.arm] += 1.0
        return columns

    @functools.cached_property
    def _cross(self) -> FloatArray:
        return np.asarray(self._columns.T @ self._columns, dtype=np.float64)

    @functools.cached_property
    def _inverse(self) -> FloatArray:
        return np.asarray(
            np.linalg.pinv(self._cross, rcond=_ZERO, hermitian=True), dtype=np.float64
        )

    @functools.cached_property
    def _adjusted(self) -> list[tuple[IntArray, FloatArray]]:
        """The rows of every round that has several arms, with its correction."""
        found = []
        for block in range(int(self.block.max()) + 1):
            rows = np.flatnonzero(self.block == block)
            if len(rows) < 2:
                continue
            own = self._columns[rows]
            left = np.eye(len(rows)) - 1 / len(rows) - own @ self._inverse @ own.T
            values, vectors = np.linalg.eigh(left)
            large = values > _ZERO
            roots = np.where(large, values, 1.0) ** -0.5 * large
            found.append((rows, (vectors * roots) @ vectors.T))
        return found

    @functools.cached_property
    def is_connected(self) -> bool:
        """Whether every arm can be compared with every other within rounds."""
        rank = np.linalg.matrix_rank(self._columns, tol=_ZERO)
        return bool(rank == self._columns.shape[1] - 1)

    @functools.cached_property
    def leverage(self) -> FloatArray:
        """How much of each visit its own value explains, shape (n,)."""
        own = np.einsum("nk,kl,nl->n", self._columns, self._inverse, self._columns)
        shares: FloatArray = own + 1 / np.bincount(self.block)[self.block]
        return shares

    def determines(self, weights: FloatArray) -> bool:
        """Whether rounds connect the arms of a contrast, shape (k,)."""
        return bool(np.allclose(self._cross @ (self._inverse @ weights), weights, atol=_ZERO))

    def levels(self, value: FloatArray) -> FloatArray:
        """The means of the arms as if all had been in every round, shape (k,).

        They are moved together so that their mean over all visits is that of the visits; where
        rounds do not connect all arms, they are the plain means.
        """
        count = np.bincount(self.arm)
        plain: FloatArray = np.bincount(self.arm, value) / count
        if not self.is_connected:
            return plain
        found: FloatArray = self._inverse @ (self._columns.T @ value)
        found += float(count @ (plain - found)) / len(value)
        return found

    def left_over(self, value: FloatArray) -> FloatArray:
        """What arms and rounds do not explain of the visits, shape (n,)."""
        within = value - (np.bincount(self.block, value) / np.bincount(self.block))[self.block]
        left: FloatArray = within - self._columns @ (self._inverse @ (self._columns.T @ value))
        return left

    def contrast(
        self, weights: FloatArray, value: FloatArray, left: FloatArray | None = None
    ) -> RoundEstimate:
        """A contrast of arms, shape (k,), by their visits, shape (n,).

        What is ``left`` of the visits (`left_over`) may be known from another contrast.
        """
        direction = self._inverse @ weights
        share = self._columns @ direction
        mean, spread = float(share @ value), float(weights @ direction)
        left = self.left_over(value) if left is None else left
        square, lengths, reaches = 0.0, [], []
        for rows, adjust in self._adjusted:
            own = adjust @ share[rows]
            square += float(own @ left[rows]) ** 2
            lengths.append(float(own @ own))
            reaches.append(own @ self._columns[rows])
        crossed = np.diag(lengths) - np.array(reaches) @ self._inverse @ np.array(reaches).T
        trace, total = float(np.trace(crossed)), float(np.sum(crossed**2))
        if trace <= _ZERO * spread:
            return RoundEstimate(mean, float("nan"), float("nan"), spread)
        return RoundEstimate(mean, square, trace**2 / total, spread)
