"""Releases: where a series of them changed a metric, and which one to measure next."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series, factor_of
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.newest import Newest, judge_newest
from ferocal.analysis.series.shifts import SeriesShift, judge_shifts
from ferocal.analysis.series.steps import BETWEEN_RELEASES, Search
from ferocal.answers.answer import Answer, basis_of
from ferocal.answers.compare import Prospect, doubts_of, prospect_of, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.release_line import Release, find_release_line
from ferocal.answers.seeking import NextVisit, find_next
from ferocal.answers.selection import Selection
from ferocal.errors import NothingToShowError
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class ReleaseValue:
    """A metric at one release: its value and interval in the unit, and how it differs.

    ``before``, ``first`` and ``best`` compare it with the measured release before it, the first
    one and the best one, of which ``best_release`` is the place; None where it is that itself, or
    where nothing is better.
    """

    bench: str
    series: Series
    scale: Scale
    release: int
    visits: int
    value: float
    low: float
    high: float
    best_release: int | None
    against_before: Estimate | None
    against_first: Estimate | None
    against_best: Estimate | None

    @property
    def from_releases(self) -> bool:
        """Whether a comparison rests on how much releases vary, for want of another floor."""
        floors = (e.noise_floor for e in self.comparisons if e is not None)
        return any(floor is not None and floor.source == BETWEEN_RELEASES for floor in floors)

    @property
    def comparisons(self) -> tuple[Estimate | None, Estimate | None, Estimate | None]:
        """With the release before, the first and the best."""
        return self.against_before, self.against_first, self.against_best


@dataclass(frozen=True)
class SeriesAnswer(Answer):
    """Everything about the releases of one factor, on all benches.

    ``at`` are the levels of the other factors. ``unsearched`` are benches and metrics of which too
    few releases were read to look for steps, ``from_releases`` those whose intervals rest on how
    much releases vary, ``restless`` those of which releases vary by more than their visits,
    ``alike`` those of which neighbours resemble each other.
    ``newest`` is the newest release against the level before it, if it was asked for; ``asked``
    says that metrics were asked for by name. ``prospects`` say by bench how more can be measured.
    ``conditions`` are means by bench, condition and release, NaN where unknown.
    """

    factor: str
    order: str
    at: Mapping[str, str]
    releases: tuple[Release, ...]
    values: tuple[ReleaseValue, ...]
    steps: tuple[SeriesShift, ...]
    unsearched: tuple[tuple[str, Series], ...]
    from_releases: tuple[tuple[str, Series], ...]
    next_visit: NextVisit | None
    prospects: Mapping[str, Prospect]
    restless: tuple[tuple[str, Series], ...]
    alike: tuple[tuple[str, Series], ...]
    newest: tuple[Newest, ...]
    asked: bool
    conditions: Mapping[str, Mapping[str, FloatArray]]

    def unmeasured(self) -> list[str]:
        """Releases of which nothing was read on any bench."""
        read = {value.release for value in self.values}
        return [r.name for n, r in enumerate(self.releases) if n not in read]


def follow(
    study: Study,
    evidence: Evidence,
    factor: str,
    *,
    at: Sequence[str] = (),
    selection: Selection | None = None,
    gate: bool = False,
) -> SeriesAnswer:
    """Every release against the one before, the first and the best; steps and creeps.

    A selection limits what is in the result, not how it is judged. For a ``gate`` the newest
    release is compared with the level before it.

    Raises
    ------
    UsageError
        When a name is unknown, the factor has no order, or nothing was measured.
    """
    selection = (selection or Selection()).resolve(study)
    line = find_release_line(study, factor, at)
    readings = evidence.readings
    places = line.places(readings)
    setting = setting_of(study, evidence, study.baseline)
    releases = None if evidence.releases is None else evidence.releases.along(places)
    searches: dict[str, tuple[Search, ...]] = {
        bench: () if releases is None else tuple(releases.on_bench(n).values())
        for n, bench in enumerate(readings.benches)
    }
    if not any(searches.values()):
        raise NothingToShowError(
            f"no reading has been recorded for any level of {factor}; begin with `ferocal measure`"
        )
    maker = _Values(readings, places, setting)
    shifts = judge_shifts(readings, searches, places, setting)

    def wanted(bench: str, series: Series) -> bool:
        return selection.wants(bench, study.baseline, series.workload, series.metric)

    found = [
        (bench, search, readings.series[search.course.series])
        for bench, of_bench in searches.items()
        for search in of_bench
        if wanted(bench, readings.series[search.course.series])
    ]
    values = [v for v in maker.all(searches) if wanted(v.bench, v.series)]
    shown = {series for _, _, series in found}
    benches = {bench for bench, _, _ in found}
    names = [r.configuration for r in line.releases if r.configuration is not None]
    return SeriesAnswer(
        **basis_of(study, evidence, doubts_of(study, evidence, shown, benches, names)),
        factor=factor,
        order="time" if study.file.factor[factor].order == "time" else "file",
        at=line.at,
        releases=tuple(_with_notes(release, evidence) for release in line.releases),
        values=tuple(values),
        steps=tuple(
            step for bench, search, _ in found for step in shifts[bench, search.course.series]
        ),
        unsearched=tuple((bench, series) for bench, s, series in found if not s.searched),
        from_releases=tuple(dict.fromkeys((v.bench, v.series) for v in values if v.from_releases)),
        restless=tuple((b, series) for b, s, series in found if s.restless),
        alike=tuple((b, series) for b, s, series in found if s.likeness),
        asked=selection.places is not None,
        newest=tuple(
            newest
            for newest in (_newest(readings, searches, places, setting) if gate else ())
            if wanted(newest.bench, newest.series)
        ),
        next_visit=find_next(study, readings, line, searches, selection),
        prospects={bench: prospect_of(study, evidence, bench) for bench in study.benches},
        conditions={b: _conditions(evidence, b, places) for b in readings.benches},
    )


def _newest(
    readings: Readings,
    searches: Mapping[str, Sequence[Search]],
    places: Sequence[int],
    setting: Setting,
) -> list[Newest]:
    courses = {bench: [s.course for s in of_bench] for bench, of_bench in searches.items()}
    last = max((int(c.place[-1]) for of_bench in courses.values() for c in of_bench), default=-1)
    recent = {
        bench: [c for c in of_bench if int(c.place[-1]) == last]
        for bench, of_bench in courses.items()
    }
    return judge_newest(readings, recent, places, setting)


def _with_notes(release: Release, evidence: Evidence) -> Release:
    """A release with what was noted of its configuration, after what the study file says."""
    noted = [
        note.text
        for note in evidence.notes
        if note.configuration == release.configuration and not (note.workload or note.run)
    ]
    own = [] if release.configuration is None else noted
    return replace(release, note="; ".join(filter(None, [release.note, *own])))


@dataclass(frozen=True)
class _Values:
    """Values of releases, and how they differ from each other."""

    readings: Readings
    places: Sequence[int]
    setting: Setting

    def all(self, searches: Mapping[str, Sequence[Search]]) -> list[ReleaseValue]:
        """The values of all courses, all comparisons of one kind and role being one family."""
        contrasts: list[Contrast] = []
        asked: dict[tuple[str, int, int, str], int] = {}
        for bench, of_bench in searches.items():
            for search in of_bench:
                course = search.course
                for kind, release, other in self._pairs(course):
                    role = self.readings.series[course.series].role
                    asked[bench, course.series, release, kind] = len(contrasts)
                    contrasts.append(
                        self._contrast(bench, course, release, other, f"{kind} {role}")
                    )
        found: dict[int, Estimate] = {}
        if contrasts:
            found = judge_contrasts(self.readings, contrasts, self.setting, foresees=False)

        def estimate(bench: str, series: int, release: int, kind: str) -> Estimate | None:
            number = asked.get((bench, series, release, kind))
            return None if number is None else found.get(number)

        return [
            self._value(bench, search, row, estimate)
            for bench, of_bench in searches.items()
            for search in of_bench
            for row in range(len(search.course.place))
        ]

    def _pairs(self, course: Course) -> Iterator[tuple[str, int, int]]:
        """What is compared with what: kind, release, and the other one by their place."""
        at = course.place.tolist()
        yield from (("value", release, release) for release in at)
        best = self._best(course)
        for earlier, later in itertools.pairwise(at):
            yield "before", later, earlier
        for release in at[1:]:
            yield "first", release, at[0]
        if best is not None:
            yield from (("best", release, best) for release in at if release != best)

    def _best(self, course: Course) -> int | None:
        """The release with the best value, None where neither direction is better."""
        better = self.readings.series[course.series].better
        if better == "none":
            return None
        best = course.centre.argmax() if better == "higher" else course.centre.argmin()
        return int(course.place[int(best)])

    def _contrast(
        self, bench: str, course: Course, release: int, other: int, family: str
    ) -> Contrast:
        b = self.readings.benches.index(bench)
        arms = [Arm(course.series, b, self.places[n]) for n in (release, other)]
        if release == other:
            return Contrast(((arms[0], 1.0),), family)
        return Contrast(((arms[0], 1.0), (arms[1], -1.0)), family)

    def _value(
        self,
        bench: str,
        search: Search,
        row: int,
        estimate: Callable[[str, int, int, str], Estimate | None],
    ) -> ReleaseValue:
        course = search.course
        release, centre = int(course.place[row]), float(course.centre[row])
        known = estimate(bench, course.series, release, "value")
        half = math.nan if known is None else (known.shift.high - known.shift.low) / 2
        ends = (centre, centre - half, centre + half)
        value, low, high = map(factor_of, ends) if course.scale == "ratio" else ends
        before, first, best = (
            estimate(bench, course.series, release, kind) for kind in ("before", "first", "best")
        )
        return ReleaseValue(
            bench, self.readings.series[course.series], course.scale, release,
            int(course.visits[row]), value, low, high, self._best(course), before, first, best,
        )  # fmt: skip


def _conditions(evidence: Evidence, bench: str, places: Sequence[int]) -> dict[str, FloatArray]:
    """Conditions that are numbers, as means by release, NaN where nothing was seen."""
    context = evidence.contexts.get(bench)
    if context is None:
        return {}
    known, means = context.conditions, {}
    if known is None:
        return {}
    for name, numbers in known.numbers.items():
        by_release = [numbers[known.configuration_of == c] for c in places]
        means[name] = np.array(
            [np.nanmean(x) if len(x) and not np.isnan(x).all() else np.nan for x in by_release]
        )
    return means
