"""Contrasts: weighted sums of arms, with the interval that their visits allow."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.readings import Readings, VisitSummaries
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.moments import Moments, group_moments
from ferocal.analysis.inference.noise_floors import NoiseFloor, SideOfFloor, floor_error
from ferocal.analysis.inference.sides import PairedRounds, pair_rounds, visits_of_sides
from ferocal.analysis.inference.weights import Arm, Contrast, Terms, find_terms


class Method(StrEnum):
    """What the interval of a contrast rests on."""

    PAIRED = "paired by round"
    VISITS = "between visits"
    FLOOR = "noise floor"
    NONE = "none"


METHODS = tuple(Method)
_PAIRED, _VISITS, _FLOOR, _NONE = range(4)


FloorOf = Callable[[int, int], NoiseFloor | None]


@dataclass(frozen=True)
class ContrastTable:
    """Estimates of contrasts on the scale of the analysis; columns of shape (n,).

    ``contrast_of`` is the place of each among the contrasts that were asked for, and
    ``strand_of`` numbers the series and bench by which it is named. ``method`` indexes
    `METHODS`. ``error`` is the standard error of ``mean``, with ``degrees`` of freedom, NaN
    where unknown. ``sd`` is the standard deviation of the contrast of single visits, ``pairs``
    the number of rounds that pair. ``visits`` and ``runs`` count what the sides of positive
    weight are made of, ``base_visits`` and ``base_runs`` those of negative weight;
    ``unpaired`` visits were left out.
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


def estimate_contrasts(
    summaries: VisitSummaries,
    readings: Readings,
    contrasts: Sequence[Contrast],
    *,
    interleaved: bool,
    floor_of: FloorOf,
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

    Returns
    -------
    ContrastTable
        One row for each contrast of which every arm has readings, in their order. On a bench
        where at least two rounds have all sides of the contrast, it is taken within rounds
        (Student 1908); else from the means of all visits, if every side has at least two
        (Welch 1947); else with the noise floor, if there is one. What comes from several
        benches, or from several sides, is independent and adds up.
    """
    terms = find_terms(contrasts, readings, np.unique(summaries.arm_of))
    kept = np.unique(terms.contrast)
    rows = visits_of_sides(terms, summaries)
    sides = group_moments(rows.side, rows.value, rows.runs, len(terms.part_of_side))
    paired = pair_rounds(terms, rows, interleaved=interleaved)
    table = _add_up(terms, sides, paired, kept, contrasts, readings)
    _fill_floors(table, contrasts, readings, terms, sides, paired, floor_of)
    return table


def _add_up(
    terms: Terms,
    sides: Moments,
    paired: PairedRounds,
    kept: IntArray,
    contrasts: Sequence[Contrast],
    readings: Readings,
) -> ContrastTable:
    """Parts that pair count as one component, the sides of others as one each."""
    size = len(contrasts)
    pairs, part_of_side = paired.moments.count, terms.part_of_side
    pairing = pairs > 0
    alone = np.flatnonzero(~pairing[part_of_side])
    together = np.flatnonzero(pairing)
    owner = np.r_[terms.contrast_of_part[together], terms.contrast_of_part[part_of_side[alone]]]
    mean, error, degrees, sd = _combine_components(
        owner,
        np.r_[paired.moments.mean[together], sides.mean[alone]],
        np.r_[paired.moments.variance[together], sides.variance[alone]],
        np.r_[pairs[together], sides.count[alone]],
        size,
    )
    only_pairs = np.bincount(owner, minlength=size) == 1
    only_pairs &= np.bincount(terms.contrast_of_part[together], minlength=size) == 1
    method = np.where(np.isnan(error), _NONE, np.where(only_pairs, _PAIRED, _VISITS))
    first = [contrasts[n].first for n in kept.tolist()]
    return ContrastTable(
        contrast_of=kept,
        strand_of=np.array([a.series * len(readings.benches) + a.bench for a in first], np.int64),
        method=method[kept],
        mean=mean[kept],
        error=error[kept],
        degrees=degrees[kept],
        sd=sd[kept],
        pairs=np.bincount(terms.contrast_of_part, pairs, size).astype(np.int64)[kept],
        **{name: column[kept] for name, column in _counts(terms, sides, paired, size).items()},
    )


def _counts(terms: Terms, sides: Moments, paired: PairedRounds, size: int) -> dict[str, IntArray]:
    """Visits and runs of the sides of positive and of negative weight, and visits left out."""
    pairs = paired.moments.count[terms.part_of_side]
    visits = np.where(pairs > 0, pairs, sides.count)
    runs = np.where(pairs > 0, paired.runs_of_side, sides.runs)
    owner, ahead = terms.contrast_of_part[terms.part_of_side], terms.sign_of_side > 0

    def summed(values: IntArray, members: np.ndarray) -> IntArray:
        return np.bincount(owner[members], values[members], size).astype(np.int64)

    return {
        "visits": summed(visits, ahead),
        "base_visits": summed(visits, ~ahead),
        "runs": summed(runs, ahead),
        "base_runs": summed(runs, ~ahead),
        "unpaired": summed(sides.count - visits, np.full(len(owner), True)),
    }


def _combine_components(
    owner: IntArray, mean: FloatArray, variance: FloatArray, count: IntArray, size: int
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Mean, standard error, its degrees of freedom and SD of sums of independent components.

    Welch (1947), Biometrika 34, 28-35, with the degrees of freedom of Satterthwaite (1946),
    Biometrics Bulletin 2, 110-114; of a single component they are its own.
    """
    each = count - 1.0
    with np.errstate(divide="ignore", invalid="ignore"):
        share = variance / count
        total = np.bincount(owner, share, size)
        weighted = np.bincount(owner, share**2 / each, size)
        degrees: FloatArray = total**2 / weighted
    everything: FloatArray = np.bincount(owner, each, size).astype(np.float64)
    # Without any variation there are as many degrees as all components have.
    degrees = np.where(total == 0, everything, degrees)
    single = np.bincount(owner, minlength=size) == 1
    degrees = np.where(single, everything, degrees)
    error: FloatArray = np.sqrt(total)
    degrees = np.where(np.isnan(error), np.nan, degrees)
    sd: FloatArray = np.sqrt(np.bincount(owner, variance, size))
    sums = np.bincount(owner, mean, size).astype(np.float64)
    return sums, error, degrees, sd


def _fill_floors(
    table: ContrastTable,
    contrasts: Sequence[Contrast],
    readings: Readings,
    terms: Terms,
    sides: Moments,
    paired: PairedRounds,
    floor_of: FloorOf,
) -> None:
    """The noise floor, where a side has a single visit or a single round pairs."""
    open_rows = np.flatnonzero(table.method == _NONE)
    if not len(open_rows):
        return
    first_term = np.searchsorted(terms.contrast, table.contrast_of[open_rows])
    for row, begin in zip(open_rows.tolist(), first_term.tolist(), strict=True):
        weights = contrasts[int(table.contrast_of[row])].weights
        found = []
        for place, (arm, weight) in enumerate(weights):
            side = int(terms.side[begin + place])
            pairs = int(paired.moments.count[terms.part_of_side[side]])
            visits = pairs or int(sides.count[side])
            runs = int(paired.runs_of_side[side] if pairs else sides.runs[side])
            floor = floor_of(arm.series, arm.bench)
            if floor is None or not visits:
                break
            found.append(SideOfFloor(floor, weight, visits, runs / visits))
        if len(found) < len(weights) or len(set(_sides(weights))) < len(weights):
            continue
        table.error[row], table.degrees[row] = floor_error(found)
        table.sd[row] = np.sqrt(sum(side.weight**2 * side.floor.variance for side in found))
        table.method[row] = _FLOOR


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
    table.degrees[known] = np.minimum(degrees[known], 1e6)
    table.error[known] = np.sqrt(squares)[known]


def uncertainty_of(
    contrasts: Sequence[Contrast], of_arm: FloatArray, readings: Readings
) -> FloatArray:
    """The uncertainty of contrasts whose arms have independent uncertainties ``of_arm``."""
    benches, configurations = len(readings.benches), len(readings.configurations)
    found = np.zeros(len(contrasts))
    for n, contrast in enumerate(contrasts):
        for arm, weight in contrast.weights:
            code = (arm.series * benches + arm.bench) * configurations + arm.configuration
            found[n] = np.hypot(found[n], weight * of_arm[code])
    return found
