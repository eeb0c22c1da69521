"""Shifts of series as they are judged: contrasts of the releases before and after them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Literal, NamedTuple

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.series.course import Course
from ferocal.analysis.series.shapes import ShiftKind
from ferocal.analysis.series.steps import Search
from ferocal.terms.frozen import dataclass

# How much of a shift is undone: all of it, some of it, or it is not known which.
Extent = Literal["whole", "part", "open"]


class Undoing(NamedTuple):
    """The release that undoes a shift, how much of it, and the shift by which it does so."""

    release: int
    extent: Extent
    by: SeriesShift


@dataclass(frozen=True, kw_only=True)
class SeriesShift(Estimate):
    """A change of a metric between two releases, or over several (``kind`` "creep").

    ``last`` is the release before it and ``first`` the one after, ``earliest`` and ``latest``
    those between which it lies with 95 %, all by their place. ``certainty`` is the probability of
    this kind against the other, a step being likelier beforehand, NaN where too few releases were
    read to tell. ``undone`` says how much of it the next shift undoes, None if nothing.
    """

    bench: str
    series: Series
    kind: ShiftKind
    last: int
    first: int
    earliest: int
    latest: int
    certainty: float
    undone: Undoing | None = None


def release_contrast(
    course: Course, bench: int, places: Sequence[int], weights: FloatArray, family: str
) -> Contrast:
    """A sum of the releases of a course, shape (n,); ``places`` are their configurations."""
    arms = [Arm(course.series, bench, places[n]) for n in course.place.tolist()]
    pairs = [(arm, w) for arm, w in zip(arms, weights.tolist(), strict=True) if w]
    return Contrast(tuple(sorted(pairs, key=lambda pair: -pair[1])), family)


def judge_shifts(
    readings: Readings,
    searches: Mapping[str, Sequence[Search]],
    places: Sequence[int],
    setting: Setting,
) -> dict[tuple[str, int], tuple[SeriesShift, ...]]:
    """The shifts of all courses by bench and series.

    Each is judged alone: that there is one was tested within the family of its metrics.
    """
    asked: list[Contrast] = []
    for bench, search in _all(searches):
        place = readings.benches.index(bench)
        for shift in search.shifts:
            found = release_contrast(
                search.course, place, places, shift.weights, f"shift {len(asked)}"
            )
            asked.append(found._replace(doubt=shift.doubt))
        for one, other in itertools.pairwise(search.shifts):
            back = one.weights + other.weights
            found = release_contrast(search.course, place, places, back, f"back {len(asked)}")
            asked.append(found._replace(doubt=math.hypot(one.doubt, other.doubt)))
    known = iter([e for _, e in sorted(judge_contrasts(readings, asked, setting).items())])
    judged = {}
    for bench, search in _all(searches):
        series = readings.series[search.course.series]
        of_course = [
            SeriesShift(
                **vars(next(known)), bench=bench, series=series, kind=s.kind, last=s.last,
                first=s.first, earliest=s.earliest, latest=s.latest, certainty=s.certainty,
            )
            for s in search.shifts
        ]  # fmt: skip
        backs = [next(known) for _ in itertools.pairwise(search.shifts)]
        judged[bench, search.course.series] = tuple(_with_returns(of_course, backs))
    return judged


def _all(searches: Mapping[str, Sequence[Search]]) -> Iterator[tuple[str, Search]]:
    return ((bench, search) for bench, of_bench in searches.items() for search in of_bench)


def _with_returns(
    shifts: Sequence[SeriesShift], backs: Sequence[Estimate]
) -> Iterator[SeriesShift]:
    """Shifts with how much of them the next one undoes.

    ``backs`` are what each leaves together with the next. It is the whole where that is shown to
    be within the margin, a part where it is shown to be still on the side of the shift, and open
    otherwise; nothing where it is shown to be on the other side, or both have one direction.
    """
    for shift, follower, back in itertools.zip_longest(shifts, shifts[1:], backs):
        if follower is None or (follower.change > 0) == (shift.change > 0):
            yield shift
            continue
        low, high = back.shift.low, back.shift.high
        up = shift.change > 0
        if back.verdict is Verdict.EQUIVALENT:
            extent: Extent | None = "whole"
        elif (low > 0) if up else (high < 0):
            extent = "part"
        else:
            extent = None if ((high < 0) if up else (low > 0)) else "open"
        taken = None if extent is None else Undoing(follower.first, extent, follower)
        yield replace(shift, undone=taken)
