"""What ``ferocal series --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    DOUBTS,
    EXCLUDED,
    LEFT_OUT,
    OfSeries,
    RemarkObject,
)

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.release_line import Release
    from ferocal.answers.series import SeriesAnswer


class _Part(NamedTuple):
    """A value or a step of an answer, which has the names of the releases."""

    answer: SeriesAnswer
    item: Any

    @property
    def bench(self) -> str:
        """Where."""
        return str(self.item.bench)

    @property
    def series(self) -> Series:
        """Of which metric."""
        series: Series = self.item.series
        return series


def _release(place: str) -> Callable[[_Part], str | None]:
    """The name of the release of which an item has the place."""

    def get(part: _Part) -> str | None:
        number: int | None = getattr(part.item, place)
        return None if number is None else part.answer.releases[number].name

    return get


def _date_of(part: _Part) -> str | None:
    return _date(part.answer.releases[part.item.release])


def _date(release: Release) -> str | None:
    return None if release.date is None else release.date.isoformat()


class AgainstObject(Object):
    """A release against another one."""

    change: float | None = key("the change")
    low: float | None = key("lower end of its interval")
    high: float | None = key("upper end of it")
    p_adjusted: float | None = key("p-value, adjusted among all such comparisons")
    verdict: str = key("`better`, `worse`, `equivalent`, …")
    method: str = key("where the interval is from")


class ReleaseValueObject(OfSeries):
    """A metric at one release."""

    level: str = key("the release", _release("release"))
    date: str | None = key("its date (ISO 8601)", _date_of)
    visits: int = key("how many visits there are", "item.visits")
    scale: str = key("`ratio` or `difference`", "item.scale")
    value: float = key("its value, in the unit", "item.value")
    low: float | None = key("lower end of its interval", "item.low")
    high: float | None = key("upper end of it", "item.high")
    against_before: AgainstObject | None = key(
        "against the measured release before it", "item.against_before"
    )
    against_first: AgainstObject | None = key("against the first one", "item.against_first")
    best_level: str | None = key("the release with the best value", _release("best_release"))
    against_best: AgainstObject | None = key("against that", "item.against_best")


class UndoneObject(Object):
    """How much of a step or creep a later one undoes."""

    release: str = key("the release that does", _release("release"))
    extent: str = key(
        "`whole` where what is left is within the margin, `part` where some of it is left, `open` "
        "where either may be",
        "item.extent",
    )
    change: float = key("by so much", "item.by.change")
    low: float | None = key("lower end of its interval", "item.by.low")
    high: float | None = key("upper end of it", "item.by.high")


def _undone(part: _Part) -> _Part | None:
    back = part.item.undone
    return None if back is None else _Part(part.answer, back)


class ShiftObject(OfSeries):
    """A step or a creep."""

    kind: str = key("`step` or `creep`", "item.kind")
    last: str = key("the last release before it", _release("last"))
    first_release: str = key("the first release after it", _release("first"))
    earliest: str = key("it lies after this with 95 %", _release("earliest"))
    latest: str = key("and not after this", _release("latest"))
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "item.scale")
    change: float = key("its size", "item.change")
    low: float | None = key("lower end of its 95 % interval", "item.low")
    high: float | None = key("upper end of it", "item.high")
    certainty: float | None = key(
        "the probability of this kind against the other", "item.certainty"
    )
    verdict: str = key("`better`, `worse`, …", "item.verdict")
    undone: UndoneObject | None = key("how much of it the next step or creep undoes", _undone)


class NewestObject(OfSeries):
    """The newest release against the level before it."""

    level: str = key("the newest release", _release("release"))
    first_release: str = key("the level before it begins with this release", _release("first"))
    last: str = key("and ends with this one", _release("last"))
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "item.scale")
    change: float = key("the change", "item.change")
    low: float | None = key("lower end of its interval", "item.low")
    high: float | None = key("upper end of it", "item.high")
    p_adjusted: float | None = key(
        "p-value, adjusted for its family of metrics, and as one of 20 nights", "item.p_adjusted"
    )
    verdict: str = key("`better`, `worse`, `equivalent`, …", "item.verdict")
    method: str = key("where the interval is from", "item.method")


class NextVisitObject(Object):
    """The visit that would best locate a step."""

    bench: str = key("where")
    release: str = key("the release")
    configuration: str = key("its configuration")
    again: bool = key("whether it was measured before")
    workload: str = key("of the step", "series.workload")
    metric: str = key("of the step", "series.metric")
    last: str = key("the step lies after this release")
    first_release: str = key("and not after this one")
    chance: float = key("with this probability")
    separation: float | None = key("size of the step over the SD of a visit")
    seconds: float | None = key("what switching there takes", unit="s")


class ReleaseObject(Object):
    """A release."""

    level: str = key("its name", "name")
    date: str | None = key("its date", _date)
    note: str = key("what the study file notes of it")
    configuration: str | None = key("its configuration, null where there is none")


def _parts(name: str) -> Callable[[SeriesAnswer], list[_Part]]:
    return lambda answer: [_Part(answer, item) for item in getattr(answer, name)]


def _unmeasured(answer: SeriesAnswer) -> list[str]:
    return answer.unmeasured()


def _unsearched(answer: SeriesAnswer) -> list[list[str]]:
    return [[bench, series.workload, series.metric] for bench, series in answer.unsearched]


class SeriesObject(Object):
    """`ferocal series FACTOR --json`."""

    question: str = key("the question of the study")
    factor: str = key("whose levels follow each other")
    ordered_by: str = key("`time`, or `file` for that of the study file", "order")
    at_levels: dict[str, str] = key("the levels of the other factors", "at")
    confidence: float = key("the level of intervals")
    criteria_changed: list[str] = CRITERIA_CHANGED
    caveats: list[RemarkObject] = DOUBTS
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    releases: list[ReleaseObject] = key("all releases in their order")
    release_values: list[ReleaseValueObject] = key(
        "every metric at every measured release", _parts("values")
    )
    steps: list[ShiftObject] = key("what changed, and where", _parts("steps"))
    unmeasured: list[str] = key("releases without any reading", _unmeasured)
    unsearched: list[list[str]] = key(
        "bench, workload and metric of which too few releases were read", _unsearched
    )
    newest: list[NewestObject] = key(
        "the newest release against the level before it, with --gate", _parts("newest")
    )
    next_visit: NextVisitObject | None = key("which release to measure next")
