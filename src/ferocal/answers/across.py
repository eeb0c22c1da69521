"""Across benches: who leads under each configuration, and where the lead changed hands."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from ferocal.analysis.data.index import deciding_places
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.series.course import Course, find_courses
from ferocal.analysis.series.shifts import release_contrast
from ferocal.analysis.series.steps import Search, course_of_difference, search_courses
from ferocal.answers.answer import Answer, basis_of
from ferocal.answers.compare import doubts_of, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.release_line import find_release_line
from ferocal.answers.selection import Selection
from ferocal.errors import NothingToShowError
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

_HARDWARE = ("hardware", "declared", "resource")


@dataclass(frozen=True)
class Lead:
    """A bench against the first one, under one configuration, for one metric."""

    series: Series
    configuration: str
    bench: str
    other: str
    estimate: Estimate

    @property
    def leader(self) -> str | None:
        """The bench that is shown to be better, None where neither is."""
        if self.estimate.verdict not in CHANGED:
            return None
        return self.bench if self.estimate.verdict is Verdict.BETTER else self.other


@dataclass(frozen=True)
class Reign:
    """Releases throughout which one bench leads by as much; a change of the first over the other.

    ``change``, ``low`` and ``high`` are shares, or in the unit on the "difference" scale.
    """

    first: str
    last: str
    leader: str
    change: float
    low: float
    high: float


@dataclass(frozen=True)
class LeadChange:
    """A lead that went from one bench to the other between two stretches of releases."""

    series: Series
    scale: Scale
    bench: str
    other: str
    before: Reign
    after: Reign


@dataclass(frozen=True)
class AcrossAnswer(Answer):
    """Benches against the first one, configuration by configuration.

    ``order`` has the configurations in the order of the releases where they have one, else in that
    of the study; ``factor`` is what orders them. ``differing`` are facts of hardware that are not
    the same, by name the value on each bench.
    """

    factor: str | None
    first_bench: str
    order: tuple[str, ...]
    leads: tuple[Lead, ...]
    changes: tuple[LeadChange, ...]
    differing: Mapping[str, Mapping[str, str]]


def compare_across(
    study: Study, evidence: Evidence, selection: Selection | None = None
) -> AcrossAnswer:
    """Every bench against the first one, under each configuration that both were measured with.

    All comparisons of the metrics of one role are one family.

    Raises
    ------
    UsageError
        When a name is unknown, or fewer than two benches were measured with one configuration.
    """
    selection = (selection or Selection()).resolve(study)
    setting = setting_of(study, evidence, study.baseline)
    readings = evidence.readings
    first, others = _benches(study, readings, selection)
    series = _series(readings, selection)
    factor = study.ordered_factor
    order = _order(study, readings, factor, selection)
    asked = [
        (s, c, b)
        for s in series
        for c in order
        for b in others
        if _read(readings, s, first, c) and _read(readings, s, b, c)
    ]
    contrasts = [
        Contrast(((Arm(s, b, c), 1.0), (Arm(s, first, c), -1.0)), readings.series[s].role)
        for s, c, b in asked
    ]
    found = judge_contrasts(readings, contrasts, setting) if contrasts else {}
    leads = tuple(
        Lead(
            readings.series[s],
            readings.configurations[c],
            readings.benches[b],
            readings.benches[first],
            found[n],
        )
        for n, (s, c, b) in enumerate(asked)
        if n in found
    )
    if not leads:
        raise NothingToShowError(
            "no configuration was measured on two benches, so benches cannot be compared"
        )
    benches = [readings.benches[b] for b in (first, *others)]
    doubts = doubts_of(study, evidence, {lead.series for lead in leads}, benches)
    return AcrossAnswer(
        **basis_of(study, evidence, doubts),
        factor=factor,
        first_bench=readings.benches[first],
        order=tuple(readings.configurations[c] for c in order),
        leads=leads,
        changes=tuple(_changes(readings, order, series, (first, others), setting))
        if factor is not None
        else (),
        differing=_differing(study, evidence, benches),
    )


def _read(readings: Readings, series: int, bench: int, configuration: int) -> bool:
    code = Arm(series, bench, configuration).code(readings)
    return bool((readings.arm_of == code).any())


def _benches(study: Study, readings: Readings, selection: Selection) -> tuple[int, list[int]]:
    """The first bench and the others, of those that are wanted and were measured."""
    measured = set(np.unique(readings.bench_of).tolist())
    wanted = [
        n
        for n, bench in enumerate(readings.benches)
        if n in measured and (not selection.benches or bench in selection.benches)
    ]
    if len(wanted) < 2:
        raise NothingToShowError(
            f"fewer than two benches were measured: {', '.join(study.benches)} are in the study "
            "file; `ferocal combine` combines studies"
        )
    return wanted[0], wanted[1:]


def _series(readings: Readings, selection: Selection) -> list[int]:
    if selection.places is None:
        return deciding_places(readings.series, set(np.unique(readings.series_of).tolist()))
    return [
        n for n, s in enumerate(readings.series)
        if (s.workload, s.metric) in selection.places and s.better != "none"
    ]  # fmt: skip


def _order(study: Study, readings: Readings, factor: str | None, selection: Selection) -> list[int]:
    """The configurations that are compared: the releases, or all."""
    names = readings.configurations
    places = [n for n, name in enumerate(names) if name != CONTROL]
    if factor is not None:
        places = [n for n in find_release_line(study, factor).places(readings) if n >= 0]
    wanted = selection.configurations
    return [n for n in places if not wanted or names[n] in wanted]


def _changes(
    readings: Readings,
    order: Sequence[int],
    series: Sequence[int],
    benches: tuple[int, Sequence[int]],
    setting: Setting,
) -> Iterator[LeadChange]:
    """Where the difference of two benches has a step from one leader to the other."""
    first, others = benches

    def courses(bench: int) -> dict[int, Course]:
        found = find_courses(readings, bench, order, interleaved=setting.interleaved)
        return {course.series: course for course in found if course.series in series}

    base = courses(first)
    for bench in others:
        own = courses(bench)
        pairs = [course_of_difference(own[n], base[n]) for n in series if n in own and n in base]
        for search in search_courses(pairs, readings.series):
            reigns = list(_reigns(readings, search, order, (bench, first), setting))
            for before, after in itertools.pairwise(reigns):
                if before.leader != after.leader:
                    yield LeadChange(
                        readings.series[search.course.series],
                        search.course.scale,
                        readings.benches[bench],
                        readings.benches[first],
                        before,
                        after,
                    )


def _reigns(
    readings: Readings,
    search: Search,
    order: Sequence[int],
    pair: tuple[int, int],
    setting: Setting,
) -> Iterator[Reign]:
    """The stretches of a difference of two benches in which one is shown to lead."""
    contrasts = []
    for n, (first, last) in enumerate(search.stretches):
        weights = search.level_weights(first, last)
        sides = [
            release_contrast(search.course, bench, order, sign * weights, f"stretch {n}").weights
            for bench, sign in zip(pair, (1.0, -1.0), strict=True)
        ]
        contrasts.append(Contrast((*sides[0], *sides[1]), f"stretch {n}"))
    found = judge_contrasts(readings, contrasts, setting) if len(contrasts) > 1 else {}
    for n, (first, last) in enumerate(search.stretches):
        estimate = found.get(n)
        if estimate is None or not (estimate.shift.low > 0 or estimate.shift.high < 0):
            continue
        names = [readings.configurations[order[k]] for k in (first, last)]
        better = (estimate.shift.mean > 0) == (
            readings.series[search.course.series].better == "higher"
        )
        leader = readings.benches[pair[0] if better else pair[1]]
        yield Reign(names[0], names[1], leader, estimate.change, estimate.low, estimate.high)


def _differing(
    study: Study, evidence: Evidence, benches: Sequence[str]
) -> dict[str, dict[str, str]]:
    """Facts of hardware that are not the same on all benches, as recorded or declared."""
    values: dict[str, dict[str, str]] = {}
    for bench in benches:
        facts = {k: str(v) for k, v in study.on(bench).bench_table.facts.items()}
        for visit in evidence.visits:
            if visit.bench == bench:
                for fact in evidence.facts[visit.facts_id]:
                    if fact["kind"] in _HARDWARE:
                        facts[fact["name"]] = str(fact["value"])
        for name, value in facts.items():
            values.setdefault(name, {})[bench] = value
    return {
        name: {bench: known.get(bench, "unknown") for bench in benches}
        for name, known in values.items()
        if len({known.get(bench) for bench in benches}) > 1
    }
