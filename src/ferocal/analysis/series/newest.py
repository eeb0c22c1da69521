"""The newest release against the level before it, in a family that does not grow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import Readings, runs_per_visit
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.shifts import release_contrast
from ferocal.analysis.series.steps import Search, search_courses
from ferocal.terms.frozen import dataclass

# Who looks at every night's build makes one test a night. Each is one of so many, so that a false
# alarm for the worse is raised in one night of eight hundred.
NIGHTS = 20


@dataclass(frozen=True, kw_only=True)
class Newest(Estimate):
    """The newest release of a metric against the mean of those before, back to the last step.

    ``release``, ``first`` and ``last`` are places of releases; the level goes from one to another.
    """

    bench: str
    series: Series
    release: int
    first: int
    last: int


def judge_newest(
    readings: Readings,
    courses: Mapping[str, Sequence[Course]],
    places: Sequence[int],
    setting: Setting,
) -> list[Newest]:
    """The newest release of every course against the level before it.

    The metrics of one role are a family (Holm 1979), and each night one of `NIGHTS`. Neither the
    level nor the noise has anything of the newest release. Courses of one release have no result.
    """
    asked, found = [], []
    floors: dict[tuple[int, int], NoiseFloor] = {}
    for bench, of_bench in courses.items():
        place = readings.benches.index(bench)
        long = [course for course in of_bench if len(course.place) > 1]
        before = [c.part(int(c.place[0]), int(c.place[-2])) for c in long]
        for course, search in zip(long, search_courses(before, readings.series), strict=True):
            if search.spread is not None and search.searched:
                runs = runs_per_visit(readings, course.series, place)
                floors[course.series, place] = search.spread.floor(course.scale, runs)
            first, last = _level_before(search)
            weights = np.r_[-search.level_weights(first, last), 1.0]
            family = f"newest {readings.series[course.series].role}"
            contrast = release_contrast(course, place, places, weights, family)
            asked.append(contrast._replace(repeats=NIGHTS))
            found.append((bench, course, first, last))

    def floor(among: Readings, series: int, bench: int) -> NoiseFloor | None:
        return floors.get((series, bench))

    judged = judge_contrasts(readings, asked, replace(setting, release_floor=floor))
    return [
        Newest(
            **vars(judged[n]), bench=bench, series=readings.series[course.series],
            release=int(course.place[-1]), first=first, last=last,
        )
        for n, (bench, course, first, last) in enumerate(found)
    ]  # fmt: skip


def _level_before(search: Search) -> tuple[int, int]:
    """From which release to which the level at the end of a course goes.

    A single release is none: it may be the first of a new level, or an outlier.
    """
    *earlier, (first, last) = search.stretches
    return (earlier[-1][0], last) if earlier and first == last else (first, last)
