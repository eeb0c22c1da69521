"""Seeking: which release to measure next, so that a step is found in the fewest visits."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from ferocal.analysis.data.index import deciding_places
from ferocal.analysis.data.readings import Readings, choose_scales, runs_per_visit
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.components import run_variances
from ferocal.analysis.inference.noise_floors import share_of_runs
from ferocal.analysis.inference.verdicts import SIGNIFICANCE
from ferocal.analysis.series.course import Course, find_courses
from ferocal.analysis.series.place import (
    Whereabouts,
    information,
    locate,
    next_release,
)
from ferocal.analysis.series.seeking import (
    LEAST_SEPARATION,
    Seeking,
    choose_metric,
    end_difference,
    seek,
)
from ferocal.analysis.series.steps import Search
from ferocal.answers.evidence import Evidence
from ferocal.answers.release_line import ReleaseLine, find_release_line
from ferocal.answers.selection import Selection
from ferocal.errors import UsageError
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class NextVisit:
    """The release whose measurement would tell most of where a step lies.

    ``again`` says that it was measured before. The step lies between ``last`` and ``first`` with
    a probability of ``chance``; ``seconds`` is what switching there takes, None unless stated.
    ``by_hand`` says that an operator reads the metric.
    """

    bench: str
    release: str
    configuration: str
    again: bool
    series: Series
    last: str
    first_release: str
    chance: float
    separation: float
    seconds: float | None
    by_hand: bool = False


def find_next(
    study: Study,
    readings: Readings,
    line: ReleaseLine,
    searches: Mapping[str, Sequence[Search]],
    selection: Selection,
) -> NextVisit | None:
    """The visit that would tell most, for its cost, of where some step lies."""
    best: tuple[float, NextVisit] | None = None
    present = {s.course.series for found in searches.values() for s in found}
    deciding = deciding_places(readings.series, present)
    for bench, of_bench in searches.items():
        for search in of_bench:
            series = readings.series[search.course.series]
            place = (series.workload, series.metric)
            named = selection.places is None and search.course.series in deciding
            if not named and place not in (selection.places or ()):
                continue
            for first, last in _stretches(search, len(deciding)):
                part = search.course.part(first, last)
                known = locate(part.visit_place - first, part.visit_centre, last - first + 1)
                found = known and _proposal(line, bench, series, search.course, first, known)
                if found and (best is None or found[0] > best[0]):
                    best = found
    if best is None:
        return None
    workload = study.workloads[best[1].series.workload]
    return replace(best[1], by_hand=bool(workload.asked))


def _stretches(search: Search, metrics: int) -> Iterator[tuple[int, int]]:
    """From where to where each step is alone; all releases where the ends differ.

    That they do is said of the one of so many ``metrics`` that differs most.
    """
    at = search.course.place
    edges = [int(at[0]), *(x for s in search.shifts for x in (s.last, s.first)), int(at[-1])]
    for number, step in enumerate(search.shifts):
        if step.kind == "step":
            yield edges[2 * number], edges[2 * number + 3]
    if not search.searched and len(at) > 1:
        first, last = int(at[0]), int(at[-1])
        if metrics * end_difference(search.course, first, last, (0.0, 0))[1] < SIGNIFICANCE:
            yield first, last


def _proposal(
    line: ReleaseLine, bench: str, series: Series, course: Course, first: int, known: Whereabouts
) -> tuple[float, NextVisit] | None:
    if known.found:
        return None
    cost = line.cost[first : first + len(known.chance) + 1]
    at = next_release(known, cost)
    if at is None:
        return None
    release = line.releases[first + at]
    assert release.configuration is not None
    low, high = known.span()
    worth = float(information(known)[at] / cost[at])
    again = first + at in course.place.tolist()
    chance = float(known.chance[low : high + 1].sum())
    return worth, NextVisit(
        bench, release.name, release.configuration, again, series,
        line.releases[first + low].name, line.releases[first + high + 1].name, chance,
        known.separation, line.takes[first + at],
    )  # fmt: skip


@dataclass(frozen=True)
class Sought:
    """How far the search for a step of a metric is, on one bench.

    ``runs`` is how many there are per visit. For a step that is out of reach, ``runs_needed`` is
    how many would bring it within reach, None where no number does.
    """

    series: Series
    scale: Scale
    runs: float
    runs_needed: int | None
    line: ReleaseLine
    seeking: Seeking
    first: int
    last: int

    @property
    def configuration(self) -> str | None:
        """The configuration to visit next, None where the search has ended."""
        at = self.seeking.release
        return None if at is None else self.line.releases[at].configuration


def seek_next(
    study: Study, evidence: Evidence, factor: str, selection: Selection | None = None
) -> Sought:
    """Which release of a factor is to be visited next to find a step, on the bench of the study.

    It is the step of that metric of which the ends differ most, among those that decide.

    Raises
    ------
    UsageError
        When a name is unknown, the factor has no order, or an end cannot be measured.
    """
    selection = (selection or Selection()).resolve(study)
    line = find_release_line(study, factor)
    measurable = [n for n, r in enumerate(line.releases) if r.configuration is not None]
    if len(measurable) < 3:
        raise UsageError(f"{factor} has fewer than three releases that can be measured")
    first, last = measurable[0], measurable[-1]
    readings = evidence.readings
    bench = readings.benches.index(study.bench)
    wanted = deciding_places(readings.series, range(len(readings.series)))
    if selection.places is not None:
        wanted = [
            n for n, s in enumerate(readings.series) if (s.workload, s.metric) in selection.places
        ]
    if not wanted:
        raise UsageError("no metric of role primary or secondary: name one with --metric")
    courses = {
        course.series: course
        for course in find_courses(readings, bench, line.places(readings), interleaved=False)
        if course.series in wanted
    }
    floors = {n: _sum_of_squares(evidence, study.bench, readings.series[n]) for n in wanted}
    known = choose_metric(courses, first, last, floors)
    chosen = next(iter(courses), wanted[0]) if known is None else known
    course = courses.get(chosen)
    seeking = seek(course, first, last, line.cost, floors[chosen], len(wanted))
    scale: Scale = "ratio"
    runs, needed = float(study.head.runs), None
    if course is not None and seeking.known is not None:
        scale = course.scale
        runs = runs_per_visit(readings, chosen, bench)
        needed = _runs_needed(readings, chosen, bench, seeking.known, runs)
    return Sought(readings.series[chosen], scale, runs, needed, line, seeking, first, last)


# A visit of more runs than this takes longer than further visits.
_MOST_RUNS = 100
# With such a separation a step is found in about twenty visits.
_REACHED = 2 * LEAST_SEPARATION


def _runs_needed(
    readings: Readings, series: int, bench: int, known: Whereabouts, runs: float
) -> int | None:
    """How many runs per visit would bring a step within reach; None where no number does."""
    numbers = readings.numbers
    of_run = float(run_variances(numbers, choose_scales(numbers))[
        series * len(readings.benches) + bench
    ])  # fmt: skip
    if math.isnan(of_run):
        return None
    of_visit = max(0.0, known.sd**2 - of_run * share_of_runs(runs))
    left = (known.change / _REACHED) ** 2 - of_visit
    enough = (k for k in range(1, _MOST_RUNS + 1) if of_run * share_of_runs(k) <= left)
    return next(enough, None)


def _sum_of_squares(evidence: Evidence, bench: str, series: Series) -> tuple[float, int]:
    """What a noise floor from elsewhere says of the variation of visits."""
    floor = evidence.noise_floors.get((bench, series))
    return (0.0, 0) if floor is None else (floor.variance * floor.degrees, floor.degrees)
