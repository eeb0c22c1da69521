"""The sides of contrasts: their visits, and the rounds in which all of them were visited."""

from __future__ import annotations

import functools
import math

import numpy as np

from ferocal.analysis.data.readings import NO_ROUND, Readings, VisitSummaries, replicates
from ferocal.analysis.data.segments import FloatArray, IntArray, find_segments
from ferocal.analysis.inference.two_way import RoundEstimate, TwoWay
from ferocal.analysis.inference.weights import Terms
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class SideRows:
    """Weighted visit summaries of every side, shape (m,), by side and in order of time."""

    side: IntArray
    replicate: IntArray
    in_round: np.ndarray
    value: FloatArray
    runs: IntArray


def visits_of_sides(terms: Terms, summaries: VisitSummaries) -> SideRows:
    """The visits of every arm; arms of one side are combined visit by visit."""
    begin = np.searchsorted(summaries.arm_of, terms.arm, side="left")
    count = np.searchsorted(summaries.arm_of, terms.arm, side="right") - begin
    term = np.repeat(np.arange(len(terms.arm)), count)
    row = np.arange(len(term)) - np.repeat(np.cumsum(count) - count, count) + begin[term]
    alone = summaries.round_of == NO_ROUND
    replicate = replicates(summaries)
    rows = SideRows(
        side=terms.side[term],
        replicate=replicate[row],
        in_round=~alone[row],
        value=terms.weight[term] * summaries.centre[row],
        runs=summaries.runs[row],
    )
    members = np.bincount(terms.side, minlength=len(terms.part_of_side))
    return rows if np.all(members == 1) else _combine_metrics(rows, members)


def _combine_metrics(rows: SideRows, members: IntArray) -> SideRows:
    """One row for each visit in which all metrics of a side were read."""
    order = np.lexsort((rows.replicate, rows.side))
    side, replicate = rows.side[order], rows.replicate[order]
    starts, counts = starts_of(side, replicate)
    whole = counts == members[side[starts]]
    first = order[starts]
    return SideRows(
        side=side[starts][whole],
        replicate=replicate[starts][whole],
        in_round=rows.in_round[first][whole],
        value=np.add.reduceat(rows.value[order], starts)[whole],
        runs=np.minimum.reduceat(rows.runs[order], starts)[whole],
    )


def carry_most(pairs: IntArray, fewest: IntArray) -> np.ndarray:
    """Where the rounds that pair say more than all visits of both sides do, shape (p,).

    Pairs take out what a round has in common, but leave out visits without a partner. They
    count if there are two at least, and at least half as many as the side with the fewer visits
    has; or if that side has a single visit, so that all visits would say no more.
    """
    enough: np.ndarray = (pairs >= 2) & (2 * pairs >= fewest)
    return enough | ((pairs > 0) & (fewest < 2))


@dataclass(frozen=True)
class PairedRounds:
    """Rounds that have all sides of a contrast on a bench, by part, and their runs by side.

    ``used`` says where they are what the contrast is taken from.
    """

    moments: Moments
    used: np.ndarray
    runs_of_side: IntArray


def pair_rounds(
    terms: Terms, rows: SideRows, visits: IntArray, *, interleaved: bool
) -> PairedRounds:
    """Sums within rounds, for all parts together; ``visits`` counts those of every side."""
    parts = len(terms.contrast_of_part)
    sides_of_part = np.bincount(terms.part_of_side, minlength=parts)
    usable = rows.in_round if interleaved else np.zeros(len(rows.side), dtype=bool)
    chosen = np.flatnonzero(usable & (sides_of_part > 1)[terms.part_of_side[rows.side]])
    part, replicate = terms.part_of_side[rows.side[chosen]], rows.replicate[chosen]
    width = int(replicate.max(initial=0)) + 1
    order = np.argsort(part * width + replicate, kind="stable")
    chosen, part, replicate = chosen[order], part[order], replicate[order]
    starts, counts = starts_of(part, replicate)
    whole = counts == sides_of_part[part[starts]] if len(starts) else np.zeros(0, dtype=bool)
    sums = np.add.reduceat(rows.value[chosen], starts) if len(starts) else np.zeros(0)
    moments = group_moments(
        part[starts][whole], sums[whole], np.zeros(int(whole.sum()), np.int64), parts
    )
    counted = chosen[np.repeat(whole, counts)]
    runs = np.bincount(rows.side[counted], rows.runs[counted], len(terms.part_of_side))
    fewest = np.full(parts, np.iinfo(np.int64).max)
    np.minimum.at(fewest, terms.part_of_side, visits)
    used = carry_most(moments.count, fewest)
    return PairedRounds(moments, used, runs.astype(np.int64))


@dataclass(frozen=True)
class Parts:
    """The benches of contrasts as their rounds see them; by part, shape (p,).

    ``used`` says where rounds are what the contrast is taken from. ``square`` is the squared
    standard error of ``mean``, with ``degrees`` of freedom; ``spread`` is what it would be if
    every visit had a variance of 1. ``visits`` and ``runs`` are those that count of every side,
    in rounds or not.
    """

    used: np.ndarray
    mean: FloatArray
    square: FloatArray
    degrees: FloatArray
    spread: FloatArray
    pairs: IntArray
    visits: IntArray
    runs: IntArray


def borrow_from_others(
    parts: Parts, terms: Terms, sides: Moments, summaries: VisitSummaries, readings: Readings
) -> None:
    """Where visits have no partner, take rounds from least squares over all arms, in place.

    A side whose partner is missing in a round is compared by way of the others there. That
    counts where it leaves at most half of what all visits would say without rounds, or where a
    side has a single visit. Sides of several metrics, which others need not have, stay as they
    are.
    """
    width = len(readings.configurations)
    part_of_term = terms.part_of_side[terms.side]
    order = np.argsort(part_of_term, kind="stable")
    starts = np.searchsorted(part_of_term[order], np.arange(len(parts.pairs) + 1))
    made: dict[bytes, TwoWay] = {}
    strands: dict[int, _Strand] = {}
    for part in _incomplete(parts, terms, sides, summaries.arm_of, width):
        members = order[starts[part] : starts[part + 1]]
        number = int(terms.arm[members[0]]) // width
        strand = strands.get(number)
        if strand is None:
            strand = strands[number] = _strand(summaries, number, width, made)
        place = np.searchsorted(strand.arms, terms.arm[members])
        there = place < len(strand.arms)
        if not there.all() or (strand.arms[place] != terms.arm[members]).any():
            continue
        weights = np.zeros(len(strand.arms))
        weights[place] = terms.weight[members]
        own = terms.side[members]
        plain = float(np.sum(terms.square_of_side[own] / sides.count[own]))
        if (sides.count[own] < 2).any():
            plain = math.inf
        found = _by_way_of_others(strand, weights, plain)
        if found is not None:
            _take(parts, part, found)
            side = terms.side[members]
            parts.visits[side], parts.runs[side] = strand.visits[place], strand.runs[place]


@dataclass(frozen=True)
class _Strand:
    """The visits of a metric on a bench that are of rounds.

    ``arms`` are sorted, shape (a,); ``centre`` has the visits, shape (v,). Those whose round has
    another are counted by arm, and their runs, shape (a,).
    """

    arms: IntArray
    model: TwoWay
    centre: FloatArray
    visits: IntArray
    runs: IntArray

    @functools.cached_property
    def left(self) -> FloatArray:
        """What arms and rounds do not explain of the visits, shape (v,)."""
        return self.model.left_over(self.centre)


def _strand(
    summaries: VisitSummaries, number: int, width: int, made: dict[bytes, TwoWay]
) -> _Strand:
    """A strand by its number; one model serves all that have the same rounds."""
    here = summaries.arm_of // width == number
    rows = np.flatnonzero(here & (summaries.round_of != NO_ROUND))
    arms, arm = np.unique(summaries.arm_of[rows], return_inverse=True)
    _, block = np.unique(summaries.round_of[rows], return_inverse=True)
    key = np.stack([arm, block]).tobytes()
    if key not in made:
        made[key] = TwoWay(arm, block)
    used = np.bincount(block)[block] > 1 if len(rows) else np.zeros(0, dtype=bool)
    visits = np.bincount(arm[used], minlength=len(arms))
    runs = np.bincount(arm[used], summaries.runs[rows[used]], len(arms)).astype(np.int64)
    return _Strand(arms, made[key], summaries.centre[rows], visits, runs)


def _by_way_of_others(strand: _Strand, weights: FloatArray, plain: float) -> RoundEstimate | None:
    """The estimate within rounds where it is worth it.

    ``plain`` is the spread of the means of all visits, infinite where these have no error.
    """
    if not strand.model.determines(weights):
        return None
    found = strand.model.contrast(weights, strand.centre, strand.left)
    if math.isinf(plain):
        return found
    return None if found.spread > 2 * plain or math.isnan(found.square) else found


def _take(parts: Parts, part: int, found: RoundEstimate) -> None:
    """Put an estimate within rounds into its part."""
    parts.used[part] = True
    parts.mean[part], parts.square[part], parts.degrees[part], parts.spread[part] = found
    parts.pairs[part] = max(int(parts.pairs[part]), 1)


def _incomplete(
    parts: Parts, terms: Terms, sides: Moments, arms: IntArray, width: int
) -> list[int]:
    """Parts of one metric of which some visits have no partner, while there are third arms."""
    size = len(parts.pairs)
    sides_of = np.bincount(terms.part_of_side, minlength=size)
    lacking = sides.count > parts.pairs[terms.part_of_side]
    chosen = np.bincount(terms.part_of_side, lacking, size) > 0
    if not (chosen & (sides_of > 1)).any():
        return []
    part_of_term, strand = terms.part_of_side[terms.side], terms.arm // width
    first, last = np.full(size, np.iinfo(np.int64).max), np.full(size, -1)
    np.minimum.at(first, part_of_term, strand)
    np.maximum.at(last, part_of_term, strand)
    others = np.bincount(np.unique(arms) // width, minlength=int(last.max(initial=0)) + 1)
    chosen &= (sides_of > 1) & (first == last) & (np.maximum(others[last], sides_of) > 2)
    return [int(part) for part in np.flatnonzero(chosen)]


@dataclass(frozen=True)
class Moments:
    """Moments of every group, shape (g,); NaN where a group has too few values."""

    count: IntArray
    runs: IntArray
    mean: FloatArray
    variance: FloatArray


def group_moments(group: IntArray, value: FloatArray, runs: IntArray, size: int) -> Moments:
    """Moments of values of shape (n,), each of the group of that number below ``size``."""
    count = np.bincount(group, minlength=size)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.bincount(group, value, size) / count
        squares = np.bincount(group, (value - mean[group]) ** 2, size)
        # Equal values differ from their mean by its rounding, which is no variation.
        squares[np.sqrt(squares) < 1e-12 * np.abs(mean)] = 0.0
        variance = np.where(count > 1, squares / (count - 1.0), np.nan)
    return Moments(count, np.bincount(group, runs, size).astype(np.int64), mean, variance)


def starts_of(*keys: IntArray) -> tuple[IntArray, IntArray]:
    """Where stretches of equal keys begin in sorted columns, and how long they are."""
    if not len(keys[0]):
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
    segments = find_segments(keys)
    return segments.starts, segments.counts
