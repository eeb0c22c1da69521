"""Least squares on visit summaries with rounds as blocks: what each factor contributes."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import NO_ROUND, VisitSummaries
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.factors.design import FactorDesign, Levels, Term, code, make_design
from ferocal.analysis.inference.verdicts import SIGNIFICANCE
from ferocal.terms.frozen import dataclass

# With so many degrees of freedom lack of fit gives the error; simulated, a model that misses
# deviations as large as the noise covers 61 to 77 % without it.
LACK_OF_FIT_DEGREES = 5
_ZERO = 1e-9
# Weights of configurations are counts over counts; what is beyond is rounding.
_DIGITS = 12
# Singular values below this share of the largest are rounding: columns are whole numbers.
_RANK = 1e-10


class Uncertain(NamedTuple):
    """A standard error on the scale of the analysis, and its degrees of freedom."""

    error: float
    degrees: float


@dataclass(frozen=True)
class VisitValues:
    """Visit summaries of one series on one bench, shape (n,).

    ``row_of`` numbers configurations, ``round_of`` rounds, all one where visits do not pair.
    """

    row_of: IntArray
    round_of: IntArray
    value: FloatArray


def replicates_of(
    summaries: VisitSummaries, series: int, bench: int, *, interleaved: bool, without: int = -1
) -> VisitValues:
    """The visits of a series, in rounds if all are; else they are taken together as one.

    The configuration ``without`` is left out.
    """
    rows = (summaries.series_of == series) & (summaries.bench_of == bench)
    rows &= summaries.configuration_of != without
    rounds = summaries.round_of[rows]
    if not interleaved or (rounds == NO_ROUND).any():
        rounds = np.full(len(rounds), NO_ROUND)
    return VisitValues(summaries.configuration_of[rows], rounds, summaries.centre[rows])


def blocks_of(visits: VisitValues) -> dict[int, int]:
    """By configuration, which of them have rounds in common, directly or by way of others."""
    block: dict[int, int] = {}
    members: dict[int, set[int]] = {}
    for row, number in zip(visits.row_of.tolist(), visits.round_of.tolist(), strict=True):
        members.setdefault(number, set()).add(row)
    for rows in members.values():
        joined = {block[row] for row in rows if row in block}
        target = min(joined, default=len(block))
        for row, number in block.items():
            if number in joined:
                block[row] = target
        block |= dict.fromkeys(rows, target)
    return block


@dataclass(frozen=True)
class FactorModel:
    """Main effects, and the interactions that the design determines, for one pattern of visits.

    ``terms`` are the columns. All series that were read in the same visits share it.
    """

    design: FactorDesign
    terms: tuple[Term, ...]
    columns: FloatArray
    round_of: IntArray
    row_of: IntArray

    @functools.cached_property
    def null(self) -> FloatArray:
        """What the model cannot tell apart."""
        return self.design.null_vectors(self.terms)

    @functools.cached_property
    def _inverse(self) -> FloatArray:
        return _invert(self.columns)

    @functools.cached_property
    def _sizes(self) -> tuple[int, int, int]:
        """Degrees of freedom of the model's residuals, of lack of fit and of pure error."""
        rounds = len(np.unique(self.round_of))
        rank = len(self.terms) - len(self.null)
        rows, blocks = len(self.design.rows), len(set(self.design.block_of))
        residual = len(self.round_of) - rounds - rank
        lack = rows - blocks - rank
        return residual, lack, residual - lack

    def fit(self, value: FloatArray) -> Fit:
        """The least-squares fit of visit summaries, shape (n,), in the order of the pattern."""
        centred = _within(value, self.round_of)
        coefficients = self._inverse @ (self.columns.T @ centred)
        squares = float(np.sum((centred - self.columns @ coefficients) ** 2))
        return Fit(self, coefficients, squares, self._pure_squares(centred), *self._sizes)

    def _pure_squares(self, centred: FloatArray) -> float:
        """Squares that no model of the configurations explains."""
        left = centred - self._cells @ (self._cell_inverse @ (self._cells.T @ centred))
        return float(np.sum(left**2))

    @functools.cached_property
    def _cells(self) -> FloatArray:
        return _within((self.row_of[:, None] == self.rows[None, :]).astype(float), self.round_of)

    @functools.cached_property
    def _cell_inverse(self) -> FloatArray:
        return _invert(self._cells)

    def spread(self, weights: FloatArray) -> float:
        """The variance of a contrast in terms of that of a visit."""
        return float(weights @ self._inverse @ weights)

    @functools.cached_property
    def rows(self) -> IntArray:
        """The configurations that were visited, in ascending order."""
        return np.unique(self.row_of)

    @functools.cached_property
    def _of_rows(self) -> FloatArray:
        columns = _within(code(self.design.rows, self.terms), np.array(self.design.block_of))
        found: FloatArray = columns @ _invert(columns)
        return found

    def row_weights(self, weights: FloatArray) -> FloatArray:
        """With which weights the means of configurations enter a contrast, in their order.

        Least squares in which every configuration counts once, within what rounds connect.
        """
        found: FloatArray = np.round(self._of_rows @ weights, _DIGITS)
        return found

    def determines(self, weights: FloatArray) -> bool:
        """Whether a contrast is estimable: at right angles to all that cannot be told apart."""
        return bool(np.all(np.abs(self.null @ weights) <= _ZERO))

    def main(self, factor: str, level: str) -> FloatArray:
        """The effect of a level against the first, averaged over those of the other factors."""
        return self.conditional(factor, level, {})

    def conditional(self, factor: str, level: str, given: Levels) -> FloatArray:
        """The same where some other factors are at a given level.

        The average is over the levels with which the effect is known.
        """
        weights = np.zeros(len(self.terms))
        if level == self.design.factors[factor][0]:
            return weights
        for n, term in enumerate(self.terms):
            if (factor, level) not in term.levels:
                continue
            others = [pair for pair in term.levels if pair != (factor, level)]
            if not others:
                weights[n] = 1.0
                continue
            ((other, value),) = others
            known = sum((factor, level) in t.levels and other in t.factors for t in self.terms)
            share = 1.0 / (1 + known) if other not in given else float(given[other] == value)
            weights[n] = share
        return weights

    def between(self, start: Levels, end: Levels) -> FloatArray:
        """The change from one combination to another."""
        pair = code([start, end], self.terms)
        difference: FloatArray = pair[1] - pair[0]
        return difference


def _invert(columns: FloatArray) -> FloatArray:
    """The pseudo-inverse of the cross-products of columns."""
    return np.asarray(
        np.linalg.pinv(columns.T @ columns, rcond=_RANK, hermitian=True), dtype=np.float64
    )


def _within(columns: FloatArray, group_of: IntArray) -> FloatArray:
    """Columns, or one column, without the mean of each group."""
    _, label = np.unique(group_of, return_inverse=True)
    count = np.bincount(label)
    flat = columns.reshape(len(columns), -1)
    means = np.stack([np.bincount(label, column) / count for column in flat.T], axis=1)
    centred: FloatArray = (flat - means[label]).reshape(columns.shape)
    return centred


@dataclass(frozen=True)
class Fit:
    """The fit of one series; squares of residuals, and of these what no model would explain."""

    model: FactorModel
    coefficients: FloatArray
    squares: float
    pure_squares: float
    degrees: int
    lack_degrees: int
    pure_degrees: int

    @property
    def lack_p(self) -> float:
        """The p-value of lack of fit (Fisher's F); NaN where it cannot be tested."""
        if self.lack_degrees < 1 or self.pure_degrees < 1:
            return float("nan")
        from ferocal.analysis.inference.special import fdtrc

        lack = max(0.0, self.squares - self.pure_squares) / self.lack_degrees
        pure = self.pure_squares / self.pure_degrees
        if pure <= 0:
            return 0.0 if lack > _ZERO**2 else 1.0
        return float(fdtrc(self.lack_degrees, self.pure_degrees, lack / pure))

    @property
    def lacks(self) -> bool:
        """Whether the factors clearly do not add up as the model says."""
        return self.lack_p < SIGNIFICANCE

    @property
    def error_from_lack(self) -> bool:
        """Whether intervals rest on how far configurations are from the model."""
        return self.lack_degrees >= LACK_OF_FIT_DEGREES

    @property
    def variance(self) -> tuple[float, float]:
        """The variance of a visit, and its degrees of freedom; NaN where there are none."""
        if self.error_from_lack:
            return max(0.0, self.squares - self.pure_squares) / self.lack_degrees, self.lack_degrees
        if self.degrees < 1:
            return float("nan"), float("nan")
        return self.squares / self.degrees, self.degrees

    def misfit(self, weights: FloatArray) -> Uncertain:
        """The error of a contrast by what the model leaves unexplained; NaN where it counts not.

        It counts in place of the scatter of visits where lack of fit has enough degrees of
        freedom, and where no visit was repeated.
        """
        if not self.error_from_lack and (self.lack_degrees < 1 or self.pure_degrees > 0):
            return Uncertain(math.nan, math.nan)
        variance, degrees = self.variance
        return Uncertain(math.sqrt(variance * self.model.spread(weights)), degrees)


class Models:
    """Models by pattern of visits, each made once."""

    def __init__(self, rows: Sequence[Levels], reference: Levels) -> None:
        self._rows = rows
        self._reference = reference
        self._made: dict[tuple[bytes, bytes], FactorModel] = {}

    def of(self, visits: VisitValues) -> FactorModel:
        """The model for the pattern of these visits."""
        key = (visits.row_of.tobytes(), visits.round_of.tobytes())
        if key not in self._made:
            block = blocks_of(visits)
            used = sorted(block)
            design = make_design(
                [self._rows[row] for row in used], self._reference, [block[row] for row in used]
            )
            terms = (*design.main_terms, *design.estimable_interactions)
            coded = code([self._rows[row] for row in visits.row_of.tolist()], terms)
            columns = _within(coded, visits.round_of) if terms else coded
            self._made[key] = FactorModel(design, terms, columns, visits.round_of, visits.row_of)
        return self._made[key]
