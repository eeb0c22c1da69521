"""The course of a metric over releases: one value per release, from its visits."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ferocal.analysis.data.readings import (
    NO_ROUND,
    Readings,
    VisitSummaries,
    choose_scales,
    summarise_visits,
)
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale

# Visits to one release within a day, while releases lie further apart, were made in one go.
_ONE_GO_DAYS = 1.0


@dataclass(frozen=True)
class Course:
    """One metric on one bench, release by release.

    Columns have one entry per release that was read, shape (n,), in their order: ``place`` is
    that of the release among all, ``centre`` its value on the scale of the analysis, ``visits``
    how many there are behind it. ``squares`` is the sum of squares of visits to the same release
    in common rounds, with ``degrees`` of freedom; both are 0 where there are no common rounds.
    ``visit_place`` and ``visit_centre`` are the visits, shape (m,), without what rounds share.
    """

    series: int
    scale: Scale
    place: IntArray
    centre: FloatArray
    visits: IntArray
    squares: float
    degrees: int
    visit_place: IntArray
    visit_centre: FloatArray

    def part(self, first: int, last: int) -> Course:
        """The releases from one to another, both by their place and both included."""
        rows = (self.place >= first) & (self.place <= last)
        visits = (self.visit_place >= first) & (self.visit_place <= last)
        return replace(
            self,
            place=self.place[rows],
            centre=self.centre[rows],
            visits=self.visits[rows],
            visit_place=self.visit_place[visits],
            visit_centre=self.visit_centre[visits],
        )


def find_courses(
    readings: Readings, bench: int, releases: Sequence[int], *, interleaved: bool
) -> Iterator[Course]:
    """The course of every metric that was read of some release on a bench.

    Parameters
    ----------
    readings
        All readings; bounds enter no mean.
    bench
        The place of the bench.
    releases
        The place of the configuration of each release, in the order of the releases; −1 for one
        that has none.
    interleaved
        Whether visits of a round were made near each other in time.
    """
    numbers = readings.on_bench(bench).numbers
    scales = choose_scales(readings.numbers)
    summaries = summarise_visits(numbers, scales)
    place_of = np.full(len(readings.configurations), -1, dtype=np.int64)
    for number, configuration in enumerate(releases):
        if configuration >= 0:
            place_of[configuration] = number
    place = place_of[summaries.configuration_of]
    for series in range(len(readings.series)):
        rows = np.flatnonzero((summaries.series_of == series) & (place >= 0))
        if len(rows):
            yield _course(series, scales[series], summaries, rows, place[rows], interleaved)


def _course(
    series: int,
    scale: Scale,
    summaries: VisitSummaries,
    rows: IntArray,
    place: IntArray,
    interleaved: bool,
) -> Course:
    value, rounds = summaries.centre[rows], summaries.round_of[rows]
    releases, index, count = np.unique(place, return_inverse=True, return_counts=True)
    visits: IntArray = count.astype(np.int64)
    degrees, squares, cleared = 0, 0.0, value
    centre: FloatArray = np.bincount(index, value) / visits
    if interleaved and (rounds != NO_ROUND).all():
        known = _without_rounds(value, index, rounds)
        if known is not None:
            centre, by_visit, squares, degrees = known
            cleared = value - by_visit
    return Course(series, scale, releases, centre, visits, squares, degrees, place.copy(), cleared)


def _without_rounds(
    value: FloatArray, index: IntArray, rounds: IntArray
) -> tuple[FloatArray, FloatArray, float, int] | None:
    """Releases and rounds that add up: the releases, the rounds, squares and degrees left.

    None where the rounds do not connect all releases, so that they say nothing of some. Least
    squares for two-way data, which need not be complete (Yates 1934, The analysis of multiple
    classifications with unequal numbers in the different classes, Journal of the American
    Statistical Association 29, 51-66).
    """
    _, block = np.unique(rounds, return_inverse=True)
    sizes = int(index.max()) + 1, int(block.max()) + 1
    design = np.zeros((len(value), sum(sizes)))
    design[np.arange(len(value)), index] = 1.0
    design[np.arange(len(value)), sizes[0] + block] = 1.0
    found, _, rank, _ = np.linalg.lstsq(design, value, rcond=None)
    if rank < sum(sizes) - 1:
        return None
    left = value - design @ found
    of_block = found[sizes[0] :] - found[sizes[0] :].mean()
    centre = found[: sizes[0]] + found[sizes[0] :].mean()
    return centre, of_block[block], float(left @ left), len(value) - int(rank)


def join_visits(readings: Readings) -> Readings:
    """Visits to one release in one go as one visit, where releases lie days apart.

    What comes between one day and another is not seen by visits of the same day, so that these
    say nothing of how much releases measured at other times differ by chance. Rounds and visits
    of unknown time stay as they are.
    """
    alone = (readings.round_of == NO_ROUND) & ~np.isnan(readings.time)
    if not alone.any():
        return readings
    visits, first = np.unique(readings.visit_of, return_index=True)
    rows = first[alone[first]]
    order = rows[np.lexsort((readings.time[rows], readings.bench_of[rows]))]
    cell, time = readings.cell_of[order], readings.time[order]
    gap = np.diff(time)
    same_bench = np.diff(readings.bench_of[order]) == 0
    stays = (np.diff(cell) == 0) & (gap < _ONE_GO_DAYS)
    if not (same_bench & (np.diff(cell) != 0) & (gap >= _ONE_GO_DAYS)).any():
        return readings
    joined = dict(zip(visits.tolist(), visits.tolist(), strict=True))
    numbers = readings.visit_of[order].tolist()
    for n, together in enumerate(stays.tolist()):
        if together:
            joined[numbers[n + 1]] = joined[numbers[n]]
    new = np.array([joined[visit] for visit in visits.tolist()], dtype=np.int64)
    if np.array_equal(new, visits):
        return readings
    return replace(readings, visit_of=new[np.searchsorted(visits, readings.visit_of)])
