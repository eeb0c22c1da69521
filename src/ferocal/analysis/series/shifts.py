"""Shifts of series as they are judged: contrasts of the releases before and after them."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.series.steps import Search, ShiftKind

# A level that is back where it was differs from that by no more than chance at this level.
_SAME = 0.05


@dataclass(frozen=True, kw_only=True)
class SeriesShift(Estimate):
    """A change of a metric between two releases, or over several (``kind`` "creep").

    ``last`` is the release before it and ``first`` the one after, ``earliest`` and ``latest``
    those between which it lies with 95 %, all by their place. ``certainty`` is the probability of
    this kind against the other, both being as likely beforehand, NaN where too few releases were
    read to tell. ``undone`` is the release that undid it, None where it was not.
    """

    bench: str
    series: Series
    kind: ShiftKind
    last: int
    first: int
    earliest: int
    latest: int
    certainty: float
    undone: int | None = None


def release_contrast(
    search: Search, bench: int, places: Sequence[int], weights: FloatArray, family: str
) -> Contrast:
    """A sum of the releases of a course, shape (n,); ``places`` are their configurations."""
    arms = [Arm(search.course.series, bench, places[n]) for n in search.course.place.tolist()]
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
            found = release_contrast(search, place, places, shift.weights, f"shift {len(asked)}")
            asked.append(found._replace(doubt=shift.doubt))
        for ends in _returns(search):
            if ends is not None:
                asked.append(release_contrast(search, place, places, ends, f"return {len(asked)}"))
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
        returns = [None if ends is None else next(known) for ends in _returns(search)]
        judged[bench, search.course.series] = tuple(_with_returns(of_course, returns))
    return judged


def _all(searches: Mapping[str, Sequence[Search]]) -> Iterator[tuple[str, Search]]:
    return ((bench, search) for bench, of_bench in searches.items() for search in of_bench)


def _returns(search: Search) -> Iterator[FloatArray | None]:
    """For every two shifts in a row the level after both less that before them.

    None where there is no level on one side, since one of them creeps into the next.
    """
    for a, b in itertools.pairwise(search.shifts):
        before = next((s for s in search.stretches if s[1] == a.last), None)
        after = next((s for s in search.stretches if s[0] == b.first), None)
        if before is None or after is None:
            yield None
        else:
            yield search.level_weights(*after) - search.level_weights(*before)


def _with_returns(
    shifts: Sequence[SeriesShift], returns: Sequence[Estimate | None]
) -> Iterator[SeriesShift]:
    """Shifts with the release that took them back, where the level is what it was before."""
    for shift, follower, back in itertools.zip_longest(shifts, shifts[1:], returns):
        opposite = follower is not None and (follower.change > 0) != (shift.change > 0)
        same = opposite and back is not None and back.shift.p_value > _SAME
        yield replace(shift, undone=follower.first) if same else shift
