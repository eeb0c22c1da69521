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
from ferocal.analysis.inference.two_way import TwoWay


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
    degrees, squares, cleared = 0, 0.0, value
    centre: FloatArray = np.bincount(index, value) / count
    if interleaved and (rounds != NO_ROUND).all():
        _, block = np.unique(rounds, return_inverse=True)
        model = TwoWay(index, block)
        # Rounds that do not connect all releases say nothing of some.
        if model.is_connected:
            centre, left = model.levels(value), model.left_over(value)
            squares = float(left @ left)
            degrees = len(value) - len(releases) - len(np.unique(block)) + 1
            cleared = centre[index] + left
    visits: IntArray = count.astype(np.int64)
    return Course(series, scale, releases, centre, visits, squares, degrees, place.copy(), cleared)
