"""Contrasts: weighted sums of arms, with the interval that their visits allow."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.readings import Readings, VisitSummaries
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.noise_floors import (
    KNOWN_DEGREES,
    NoiseFloor,
    SideOfFloor,
    floor_error,
    floor_sd,
)
from ferocal.analysis.inference.sides import (
    Moments,
    PairedRounds,
    Parts,
    borrow_from_others,
    group_moments,
    pair_rounds,
    visits_of_sides,
)
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE
from ferocal.analysis.inference.weights import Arm, Contrast, Terms, find_terms
from ferocal.terms.frozen import dataclass


class Method(StrEnum):
    """What the interval of a contrast rests on."""

    PAIRED = "paired by round"
    VISITS = "between visits"
    FLOOR = "noise floor"
    STATED = "as stated"
    MODEL = "scatter about the model"
    NONE = "none"
    BOUND = "bound"


METHODS = tuple(Method)
_PAIRED, _VISITS, _FLOOR, _STATED, _NONE = (
    METHODS.index(method)
    for method in (Method.PAIRED, Method.VISITS, Method.FLOOR, Method.STATED, Method.NONE)
)

FloorOf = Callable[[int, int], NoiseFloor | None]
StatedOf = Callable[[Arm], float | None]
_ROUNDING = 1e-13


@dataclass(frozen=True)
class ContrastTable:
    """Estimates of contrasts on the scale of the analysis; columns of shape (n,).

    ``contrast_of`` is the place of each among the contrasts that were asked for, and
    ``strand_of`` numbers the series and bench by which it is named. ``method`` indexes
    `METHODS`. ``error`` is the standard error of ``mean``, with ``degrees`` of freedom, NaN
    where unknown. ``sd`` is the standard deviation of the contrast of single visits, ``pairs``
    the number of rounds that pair. ``visits`` and ``runs`` count what the sides of positive
    weight are made of, ``base_visits`` and ``base_runs`` those of negative weight;
    ``unpaired`` visits were left out. ``fixed`` is the part of the uncertainty that no number
    of visits takes away.
    """

    contrast_of: IntArray
    strand_of: IntArray
    method: IntArray
    mean: FloatArray
    error: FloatArray
    degrees: FloatArray
    sd: FloatArray
    pairs: IntArray
    visits: IntArray
    base_visits: IntArray
    runs: IntArray
    base_runs: IntArray
    unpaired: IntArray
    fixed: FloatArray


def estimate_contrasts(
    summaries: VisitSummaries,
    readings: Readings,
    contrasts: Sequence[Contrast],
    *,
    interleaved: bool,
    floor_of: FloorOf,
    stated_of: StatedOf = lambda arm: None,
) -> ContrastTable:
    """Estimate contrasts of arms.

    Parameters
    ----------
    summaries
        Visit summaries of all arms.
    readings
        The readings behind them, which number the arms.
    contrasts
        What is to be estimated.
    interleaved
        Whether visits of a round were made near each other in time, so that they pair.
    floor_of
        Gives the noise floor of a series on a bench; asked only where a side has a single
        visit.
    stated_of
        Gives the standard deviation of visits to an arm as stated, on the scale of
        the analysis; asked only where there is no noise floor either.

    Returns
    -------
    ContrastTable
        One row for each contrast of which every arm has readings, in their order. On a bench
        where enough rounds have all sides of the contrast (`sides.carry_most`), it is taken
        within rounds (Student 1908), with the help of other arms where visits are missing
        (`TwoWay`); else from the means of all visits, if every side has at least two
        (Welch 1947); else with the noise floor, if there is one; else with the noise
        that is stated. What comes from several benches, or from several sides, is
        independent and adds up.
    """
    terms = find_terms(contrasts, readings, np.unique(summaries.arm_of))
    kept = np.unique(terms.contrast)
    rows = visits_of_sides(terms, summaries)
    sides = group_moments(rows.side, rows.value, rows.runs, len(terms.part_of_side))
    paired = pair_rounds(terms, rows, sides.count, interleaved=interleaved)
    parts = _estimate_parts(terms, sides, paired)
    if interleaved:
        borrow_from_others(parts, terms, sides, summaries, readings)
    table = _add_up(terms, parts, sides, kept, contrasts, readings)
    _fill_floors(table, contrasts, terms, parts, floor_of, stated_of)
    # Sums of equal logarithms differ from nothing by their rounding.
    table.mean[np.abs(table.mean) < _ROUNDING] = 0.0
    _turn(table, contrasts, readings)
    return table


def _turn(table: ContrastTable, contrasts: Sequence[Contrast], readings: Readings) -> None:
    """Turn means so that more is better where it is asked, and take off what is known."""
    if not any(contrast.turned or contrast.offset for contrast in contrasts):
        return
    for row, n in enumerate(table.contrast_of.tolist()):
        contrast = contrasts[n]
        if contrast.turned and readings.series[contrast.first.series].better == "lower":
            table.mean[row] *= -1.0
        if contrast.offset:
            table.mean[row] -= contrast.offset


def _estimate_parts(terms: Terms, sides: Moments, paired: PairedRounds) -> Parts:
    """What every bench says within its rounds."""
    part_of_side, count = terms.part_of_side, paired.moments.count
    pairs = count[part_of_side]
    used = paired.used[part_of_side]
    size = len(count)
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = np.bincount(part_of_side, terms.square_of_side, size) / count
        square = paired.moments.variance / count
    return Parts(
        used=paired.used.copy(),
        mean=paired.moments.mean,
        square=square,
        degrees=np.asarray(count - 1.0, dtype=np.float64),
        spread=spread,
        pairs=count.copy(),
        visits=np.where(used, pairs, sides.count),
        runs=np.where(used, paired.runs_of_side, sides.runs),
    )


def _add_up(
    terms: Terms,
    parts: Parts,
    sides: Moments,
    kept: IntArray,
    contrasts: Sequence[Contrast],
    readings: Readings,
) -> ContrastTable:
    """Parts that pair count as one component, the sides of others as one each."""
    size = len(contrasts)
    part_of_side, together = terms.part_of_side, np.flatnonzero(parts.used)
    alone = np.flatnonzero(~parts.used[part_of_side])
    with np.errstate(divide="ignore", invalid="ignore"):
        found = _Components(
            owner=np.r_[
                terms.contrast_of_part[together], terms.contrast_of_part[part_of_side[alone]]
            ],
            mean=np.r_[parts.mean[together], sides.mean[alone]],
            square=np.r_[parts.square[together], (sides.variance / sides.count)[alone]],
            degrees=np.r_[parts.degrees[together], sides.count[alone] - 1.0],
            spread=np.r_[parts.spread[together], (terms.square_of_side / sides.count)[alone]],
            variance=np.r_[(parts.square * parts.pairs)[together], sides.variance[alone]],
        )
    mean, error, degrees, sd = found.sums(size)
    only_pairs = np.bincount(found.owner, minlength=size) == 1
    only_pairs &= np.bincount(terms.contrast_of_part[together], minlength=size) == 1
    method = np.where(np.isnan(error), _NONE, np.where(only_pairs, _PAIRED, _VISITS))
    first = [contrasts[n].first for n in kept.tolist()]
    pairs = np.bincount(terms.contrast_of_part, parts.pairs * parts.used, size)
    return ContrastTable(
        contrast_of=kept,
        strand_of=np.array([a.series * len(readings.benches) + a.bench for a in first], np.int64),
        method=method[kept],
        mean=mean[kept],
        error=error[kept],
        degrees=degrees[kept],
        sd=sd[kept],
        pairs=pairs.astype(np.int64)[kept],
        fixed=np.zeros(len(kept)),
        **{name: column[kept] for name, column in _counts(terms, sides, parts, size).items()},
    )


def _counts(terms: Terms, sides: Moments, parts: Parts, size: int) -> dict[str, IntArray]:
    """Visits and runs of the sides of positive and of negative weight, and visits left out."""
    owner, ahead = terms.contrast_of_part[terms.part_of_side], terms.sign_of_side > 0

    def summed(values: IntArray, members: np.ndarray) -> IntArray:
        return np.bincount(owner[members], values[members], size).astype(np.int64)

    return {
        "visits": summed(parts.visits, ahead),
        "base_visits": summed(parts.visits, ~ahead),
        "runs": summed(parts.runs, ahead),
        "base_runs": summed(parts.runs, ~ahead),
        "unpaired": summed(sides.count - parts.visits, np.full(len(owner), True)),
    }


@dataclass(frozen=True)
class _Components:
    """Independent parts of contrasts, shape (c,): ``owner`` is the contrast of each.

    ``square`` is the squared standard error of ``mean``, ``spread`` what it would be if every
    visit had a variance of 1, ``variance`` that of a contrast of single visits.
    """

    owner: IntArray
    mean: FloatArray
    square: FloatArray
    degrees: FloatArray
    spread: FloatArray
    variance: FloatArray

    def sums(self, size: int) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        """Mean, standard error, its degrees of freedom and SD of every contrast.

        Welch (1947), Biometrika 34, 28-35, with the degrees of freedom of Satterthwaite (1946),
        Biometrics Bulletin 2, 110-114; of a single component they are its own. Where the design
        would have fewer if all visits varied alike (Bell and McCaffrey 2002, Survey Methodology 28,
        169-181), the geometric mean of both counts: of two visits against ten the smaller side,
        which decides, may by chance seem not to vary. Simulated, they then cover 94 % instead of
        90 %, and 2 to 10 visits against as many or others 95.3 %.
        """
        everything = np.bincount(self.owner, self.degrees, size)
        total = np.bincount(self.owner, self.square, size)
        with np.errstate(divide="ignore", invalid="ignore"):
            seen = total**2 / np.bincount(self.owner, self.square**2 / self.degrees, size)
            alike = (
                np.bincount(self.owner, self.spread, size) ** 2
                / np.bincount(self.owner, self.spread**2 / self.degrees, size)
            )  # fmt: skip
        # Without any variation there are as many degrees as all components have.
        degrees = np.where(total == 0, everything, np.sqrt(seen * np.fmin(seen, alike)))
        single = np.bincount(self.owner, minlength=size) == 1
        error: FloatArray = np.sqrt(total)
        degrees = np.where(single, everything, degrees)
        degrees = np.where(np.isnan(error), np.nan, degrees)
        sd: FloatArray = np.sqrt(np.bincount(self.owner, self.variance, size))
        mean = np.bincount(self.owner, self.mean, size).astype(np.float64)
        return mean, error, degrees, sd


def _fill_floors(
    table: ContrastTable,
    contrasts: Sequence[Contrast],
    terms: Terms,
    parts: Parts,
    floor_of: FloorOf,
    stated_of: StatedOf,
) -> None:
    """The noise floor, or the noise as stated, where a side has a single visit."""
    open_rows = np.flatnonzero(table.method == _NONE)
    if not len(open_rows):
        return
    first_term = np.searchsorted(terms.contrast, table.contrast_of[open_rows])
    # Of very many contrasts most have the same floors and as many visits and runs.
    alike: dict[tuple[tuple[int, float, int, float], ...], tuple[float, float, float]] = {}
    for row, begin in zip(open_rows.tolist(), first_term.tolist(), strict=True):
        weights = contrasts[int(table.contrast_of[row])].weights
        if len(set(_sides(weights))) < len(weights):
            continue
        counts = [_visits_and_runs(terms, parts, begin + n) for n in range(len(weights))]
        floors = [floor_of(arm.series, arm.bench) for arm, _ in weights]
        known = [
            SideOfFloor(floor, weight, visits, runs)
            for floor, (_, weight), (visits, runs) in zip(floors, weights, counts, strict=True)
            if floor is not None and visits
        ]
        if len(known) == len(weights):
            key = tuple((id(s.floor), s.weight, s.visits, s.runs) for s in known)
            if key not in alike:
                alike[key] = (*floor_error(known), floor_sd(known))
            table.error[row], table.degrees[row], table.sd[row] = alike[key]
            table.method[row] = _FLOOR
            continue
        stated = [stated_of(arm) for arm, _ in weights]
        squares = [w**2 * sd**2 for (_, w), sd in zip(weights, stated, strict=True) if sd]
        if len(squares) == len(weights) and all(visits for visits, _ in counts):
            shares = [s / visits for s, (visits, _) in zip(squares, counts, strict=True)]
            table.error[row], table.degrees[row] = np.sqrt(sum(shares)), KNOWN_DEGREES
            table.sd[row], table.method[row] = np.sqrt(sum(squares)), _STATED


def _visits_and_runs(terms: Terms, parts: Parts, term: int) -> tuple[int, float]:
    """Visits to the side of a term, and runs per visit."""
    side = int(terms.side[term])
    visits = int(parts.visits[side])
    return visits, int(parts.runs[side]) / visits if visits else 0.0


def _sides(weights: Sequence[tuple[Arm, float]]) -> list[tuple[int, int]]:
    return [(arm.bench, arm.configuration) for arm, _ in weights]


def widen(table: ContrastTable, uncertainty: FloatArray) -> None:
    """Add an uncertainty of known size, shape (n,), to the errors of a table, in place.

    The degrees of freedom grow by the formula of Welch and Satterthwaite, in which a known
    uncertainty has infinitely many (JCGM 100:2008, G.4.1).
    """
    squares = table.error**2 + uncertainty**2
    known = ~np.isnan(table.error) & (uncertainty > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        degrees = table.degrees * squares**2 / table.error**4
    table.degrees[known] = np.minimum(degrees[known], KNOWN_DEGREES)
    table.error[known] = np.sqrt(squares)[known]
    np.hypot(table.fixed, uncertainty, out=table.fixed)


def hold_to_resolution(table: ContrastTable, error: FloatArray, step: FloatArray) -> None:
    """Raise the errors of a table to what resolution leaves, shape (n,) each, in place.

    ``error`` is the standard uncertainty that nothing averages out. Without any spread all that
    is known is that each side is within half a step of what was read, so that the interval
    reaches at least a whole ``step`` to both sides; if the step is unknown either, there is
    no interval.
    """
    known = ~np.isnan(table.error)
    table.error[known] = np.maximum(table.error, error)[known]
    np.hypot(table.fixed, error, out=table.fixed)
    flat = np.flatnonzero(known & (table.sd == 0))
    least = step[flat] / t_quantile(table.degrees[flat], 0.5 + CONFIDENCE / 2)
    table.error[flat] = np.maximum(table.error[flat], least)
    nothing = flat[table.error[flat] == 0]
    table.error[nothing] = table.degrees[nothing] = np.nan


def hold_to_misfit(table: ContrastTable, misfits: Mapping[int, tuple[float, float]]) -> None:
    """Take what a model leaves unexplained as the error where that is wider, in place.

    ``misfits`` has by contrast a standard error and its degrees of freedom.
    """
    if not misfits:
        return
    nothing = (math.nan, math.nan)
    known = [misfits.get(n, nothing) for n in table.contrast_of.tolist()]
    error, degrees = np.array(known, dtype=np.float64).reshape(-1, 2).T
    wide, seen = (
        e * t_quantile(d, 0.5 + CONFIDENCE / 2)
        for e, d in ((error, degrees), (table.error, table.degrees))
    )
    chosen = wide > np.nan_to_num(seen, nan=-1.0)
    table.error[chosen], table.degrees[chosen] = error[chosen], degrees[chosen]
    table.method[chosen] = METHODS.index(Method.MODEL)


def steps_of(contrasts: Sequence[Contrast], of_arm: FloatArray, readings: Readings) -> FloatArray:
    """By how much contrasts may be off when every arm is within half its step ``of_arm``."""
    found = np.zeros(len(contrasts))
    for n, contrast in enumerate(contrasts):
        for arm, weight in contrast.weights:
            found[n] += abs(weight) * of_arm[arm.code(readings)] / 2
    return found


def uncertainty_of(
    contrasts: Sequence[Contrast], of_arm: FloatArray, readings: Readings
) -> FloatArray:
    """The uncertainty of contrasts whose arms have independent uncertainties ``of_arm``."""
    found = np.zeros(len(contrasts))
    for n, contrast in enumerate(contrasts):
        for arm, weight in contrast.weights:
            found[n] = np.hypot(found[n], weight * of_arm[arm.code(readings)])
    return found
