"""The course of a metric over releases: one value per release, from its visits."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import (
    NO_ROUND,
    Readings,
    choose_scales,
    summarise_visits,
)
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.data.series import Scale
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.two_way import TwoWay
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Course:
    """One metric on one bench, release by release.

    Columns have one entry per release that was read, shape (n,), in their order: ``place`` is
    that of the release among all, ``centre`` its value on the scale of the analysis, ``visits``
    how many there are behind it. ``squares`` is the sum of squares of visits to the same release,
    with ``degrees`` of freedom, or what a noise floor says of it where no visit was repeated
    (``from_floor``); both are 0 where nothing is known.
    ``visit_place`` and ``visit_centre`` are the visits, shape (m,), without what rounds share, and
    ``visit_block`` numbers the rounds whose visits pair: all 0 where none do.
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
    visit_block: IntArray
    from_floor: bool = False

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
            visit_block=self.visit_block[visits],
        )

    def by_releases(self) -> Course:
        """The course as if every release had one visit, for visits that say too little of it."""
        one = np.ones(len(self.place), np.int64)
        return replace(
            self, visits=one, squares=0.0, degrees=0, visit_place=self.place,
            visit_centre=self.centre, visit_block=0 * one, from_floor=False,
        )  # fmt: skip


FloorOf = Callable[[int], NoiseFloor | None]


def find_courses(
    readings: Readings,
    bench: int,
    releases: Sequence[int],
    *,
    interleaved: bool,
    floor_of: FloorOf = lambda series: None,
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
    floor_of
        Gives the noise floor of a series; asked only where no visit was repeated.
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
            found = course_of_visits(
                series, scales[series], place[rows], summaries.centre[rows],
                summaries.round_of[rows] if interleaved else None,
            )  # fmt: skip
            yield found if found.degrees else _with_floor(found, floor_of(series))


def _with_floor(course: Course, floor: NoiseFloor | None) -> Course:
    if floor is None or floor.scale != course.scale or not floor.degrees:
        return course
    squares = floor.variance * floor.degrees
    return replace(course, squares=squares, degrees=floor.degrees, from_floor=True)


def course_of_visits(
    series: int, scale: Scale, place: IntArray, value: FloatArray, rounds: IntArray | None = None
) -> Course:
    """The course of visits to releases, shape (m,), those of a round near each other in time."""
    releases, index, count = np.unique(place, return_inverse=True, return_counts=True)
    centre: FloatArray = np.bincount(index, value) / count
    block, cleared = np.zeros(len(value), np.int64), value
    left, degrees = value - centre[index], len(value) - len(releases)
    if rounds is not None and (rounds != NO_ROUND).all():
        _, of_round = np.unique(rounds, return_inverse=True)
        model = TwoWay(index, of_round)
        # Rounds that do not connect all releases say nothing of some.
        if model.is_connected:
            centre, left = model.levels(value), model.left_over(value)
            degrees = len(value) - len(releases) - len(np.unique(of_round)) + 1
            cleared, block = centre[index] + left, of_round
    return Course(
        series, scale, releases, centre, count.astype(np.int64), float(left @ left) if degrees
        else 0.0, degrees, place.copy(), cleared, block,
    )  # fmt: skip
