"""Readings in order of time, arm by arm, as the tests on readings look at them."""

from __future__ import annotations

import functools
from collections.abc import Iterator

from ferocal.analysis.data.readings import Readings, to_scale
from ferocal.analysis.data.segments import (
    FloatArray,
    IntArray,
    Segments,
    find_segments,
    sort_within,
)
from ferocal.analysis.data.series import Scale, Series
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Arms:
    """Readings sorted by series, configuration, visit and run; columns of shape (n,).

    ``readings`` are the same, so sorted. ``scaled`` is on the scale of the analysis.
    ``arms`` are the stretches of one series and configuration, ``visits`` those of one
    visit within them; ``series_of`` and ``configuration_of`` are those of the arms.
    """

    readings: Readings
    scales: tuple[Scale, ...]
    value: FloatArray
    scaled: FloatArray
    round_of: IntArray
    visit_of: IntArray
    samples: FloatArray
    arms: Segments
    visits: Segments
    series_of: IntArray
    configuration_of: IntArray

    @functools.cached_property
    def ascending(self) -> FloatArray:
        """The values on the scale of the analysis, ascending within every arm."""
        return self.scaled[self.arms.order(self.scaled)]

    def series(self, arm: int) -> Series:
        """The series of an arm."""
        return self.readings.series[int(self.series_of[arm])]

    def name(self, arm: int) -> str:
        """The configuration of an arm."""
        return self.readings.configurations[int(self.configuration_of[arm])]

    def rows(self, arm: int) -> slice:
        """The readings of an arm."""
        start = int(self.arms.starts[arm])
        return slice(start, start + int(self.arms.counts[arm]))

    def arms_by_series(self) -> Iterator[tuple[int, range]]:
        """Each series that has readings, with its arms."""
        groups = find_segments([self.series_of])
        for start, count in zip(groups.starts.tolist(), groups.counts.tolist(), strict=True):
            yield int(self.series_of[start]), range(start, start + count)


def sort_into_arms(readings: Readings, scales: tuple[Scale, ...]) -> Arms:
    """The readings of one bench in order of series, configuration, visit and run."""
    place = readings.visit_of * (int(readings.run_of.max(initial=0)) + 1) + readings.run_of
    ordered = readings.select(sort_within(place.astype(float), readings.arm_of))
    pair = [ordered.series_of, ordered.configuration_of]
    arms = find_segments(pair)
    return Arms(
        readings=ordered,
        scales=scales,
        value=ordered.value,
        scaled=to_scale(ordered, scales),
        round_of=ordered.round_of,
        visit_of=ordered.visit_of,
        samples=ordered.samples,
        arms=arms,
        visits=find_segments([*pair, ordered.visit_of]),
        series_of=ordered.series_of[arms.starts],
        configuration_of=ordered.configuration_of[arms.starts],
    )
