"""How much releases vary beside their steps, as a noise floor where no other is known."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence

from ferocal.analysis.data.readings import Readings, choose_scales, runs_per_visit
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.judging import find_floor
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.series.course import find_courses
from ferocal.analysis.series.steps import Search, search_courses
from ferocal.answers.release_line import find_release_line
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study


class ReleaseSearches:
    """The steps of metrics along the releases of a study, looked for once and where asked."""

    def __init__(
        self,
        study: Study,
        readings: Readings,
        noise_floors: Mapping[tuple[str, Series], NoiseFloor],
    ) -> None:
        factor = study.ordered_factor
        assert factor is not None
        self._readings = readings
        # Other floors come before how much releases vary: the search rests on them, too.
        self._setting = Setting(
            noise_floors=noise_floors, floor_arm=CONTROL if study.head.control else None
        )
        self._interleaved = study.head.schedule == "rounds"
        self._places = find_release_line(study, factor).places(readings)
        self._found: dict[int, dict[int, Search]] = {}

    def along(self, places: Sequence[int]) -> ReleaseSearches:
        """The same along other configurations, or these where they are the same."""
        if list(places) == self._places:
            return self
        other = copy.copy(self)
        other._places, other._found = list(places), {}
        return other

    def measured(self) -> list[str]:
        """The configurations of the releases of which anything was read, in their order."""
        read = set(self._readings.configuration_of.tolist())
        return [self._readings.configurations[p] for p in self._places if p in read]

    def floor(self, readings: Readings, series: int, bench: int) -> NoiseFloor | None:
        """The noise floor of a series on a bench by how much its releases vary, if it is known.

        Visits months apart differ by more than those of one day; how much releases vary between
        steps says by how much. A series that the study has not, such as an index, is searched
        alone.
        """
        if self._readings.series[series : series + 1] == readings.series[series : series + 1]:
            search = self.on_bench(bench).get(series)
        else:
            search = self._search(readings.select(readings.series_of == series), bench).get(series)
        # Few releases do not tell what was chance and what was a step.
        if search is None or search.spread is None or not search.searched:
            return None
        return search.spread.floor(search.course.scale, runs_per_visit(readings, series, bench))

    def on_bench(self, bench: int) -> dict[int, Search]:
        """The steps of all metrics on a bench, by their place."""
        if bench not in self._found:
            self._found[bench] = self._search(self._readings, bench)
        return self._found[bench]

    def _search(self, readings: Readings, bench: int) -> dict[int, Search]:
        scales = choose_scales(readings.numbers)
        courses = find_courses(
            readings,
            bench,
            self._places,
            interleaved=self._interleaved,
            floor_of=lambda n: find_floor(readings.numbers, n, bench, scales, self._setting),
        )
        searches = search_courses(list(courses), readings.series)
        return {search.course.series: search for search in searches}
