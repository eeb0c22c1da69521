"""How much releases vary beside their steps, as a noise floor where no other is known."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.noise_floors import NoiseFloor, find_own_floor, stated_floor
from ferocal.analysis.series.course import Course, find_courses, join_visits
from ferocal.analysis.series.steps import Search, search_courses
from ferocal.answers.release_line import find_release_line
from ferocal.answers.seeking import runs_per_visit
from ferocal.study.load import Study


def search_releases(
    readings: Readings, places: Sequence[int], setting: Setting
) -> dict[str, tuple[Search, ...]]:
    """The steps of all metrics by bench, along configurations that follow each other."""
    return {
        bench: search_courses(
            list(find_courses(readings, n, places, interleaved=setting.interleaved)),
            readings.series,
            bench,
        )
        for n, bench in enumerate(readings.benches)
    }


def ordered_factor(study: Study) -> str | None:
    """The first factor whose levels follow each other, None where there is none."""
    return next((name for name, f in study.file.factor.items() if f.order is not None), None)


def with_release_floors(
    study: Study, readings: Readings, setting: Setting
) -> tuple[Readings, Setting]:
    """Readings and setting, with the noise between visits from releases if not known otherwise."""
    factor = ordered_factor(study)
    if factor is None or not len(readings.value):
        return readings, setting
    readings = join_visits(readings)
    places = find_release_line(study, factor).places(readings)
    searches = search_releases(readings, places, setting)
    return readings, add_release_floors(readings, setting, searches)[0]


def add_release_floors(
    readings: Readings, setting: Setting, searches: Mapping[str, Sequence[Search]]
) -> tuple[Setting, list[tuple[str, Series]]]:
    """The setting with a noise floor from the releases themselves where no noise is known.

    Also where that is the case. Visits months apart differ by more than those of one day; how
    much releases vary between steps says by how much.
    """
    floors: dict[tuple[str, Series], NoiseFloor] = dict(setting.noise_floors)
    added = []
    for bench, of_bench in searches.items():
        place = readings.benches.index(bench)
        for search in of_bench:
            course = search.course
            series = readings.series[course.series]
            single = bool((course.visits == 1).any())
            stated = stated_floor(series, course.scale, 1.0) is not None
            known = (bench, series) in floors or stated or search.spread is None or not single
            if known or _own_floor(readings, course, place, setting):
                continue
            assert search.spread is not None
            runs = runs_per_visit(readings, course.series, place)
            floors[bench, series] = search.spread.floor(course.scale, runs)
            added.append((bench, series))
    return replace(setting, noise_floors=floors), added


def _own_floor(readings: Readings, course: Course, bench: int, setting: Setting) -> bool:
    """Whether the visits of the study give a noise floor themselves."""
    scales: list[Scale] = ["ratio"] * len(readings.series)
    scales[course.series] = course.scale
    floor = find_own_floor(readings.numbers, course.series, bench, tuple(scales), setting.floor_arm)
    return floor is not None
