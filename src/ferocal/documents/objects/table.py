"""What ``ferocal table --json``, ``frames --json`` and ``soak --json`` print."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from ferocal.documents.changes import criteria_text
from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.compare import EffectObject
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    EXCLUDED,
    LEFT_OUT,
    CellObject,
    GapObject,
)

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.answers.table import ReadingsTable
    from ferocal.answers.traces import TraceAnswer, TraceCurves
    from ferocal.traces.curves import SoakCurve, SoakEvent


def _cells(table: ReadingsTable) -> list[Cell]:
    """The cells of a table that are not empty, in order."""
    return [c for rows in table.cells.values() for row in rows for c in row if c is not None]


def _trace_cells(answer: TraceAnswer) -> list[Cell]:
    return _cells(answer.table)


def _trace_changes(answer: TraceAnswer) -> list[str]:
    return [criteria_text(change) for change in answer.comparison.criteria_changes]


class TableObject(Object):
    """`ferocal table --json`."""

    question: str = key("the question of the study")
    baseline: str = key("the baseline of the study")
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    criteria_changed: list[str] = CRITERIA_CHANGED
    cells: list[CellObject] = key("what was read", _cells)
    gaps: list[GapObject] = key("cells without a reading")


class EventObject(Object):
    """A fall or a rise that the soaks of one configuration have in common."""

    bench: str = key("on which bench", "place.bench")
    workload: str = key("of which workload", "place.metric.workload")
    metric: str = key("of which metric", "place.metric.name")
    configuration: str = key("of which configuration", "curve.configuration")
    kind: str = key("`fall` or `rise` of the value", "event.kind")
    at: float = key("when it comes, the median of the runs", "event.at", unit="s")
    before: float = key("the level of the minute before", "event.before")
    after: float = key("the level of the minute after", "event.after")
    lasts: float = key("how long until the next event or the end", "event.lasts", unit="s")
    main: bool = key("whether it costs most over the time, in most runs", "event.main")
    main_in: int = key("in how many runs it does", "event.main_in")
    regained: float | None = key(
        "of a change back after the main event the share of its loss that is back", "event.regained"
    )
    runs: int = key("in how many runs it is seen", "event.seen")
    of_runs: int = key("of how many", "event.runs")


class SessionObject(Object):
    """A length of session, and which verdict it has."""

    seconds: float | None = key("how long, null for the whole soak", unit="s")
    change: float | None = key("the change of its level", "effect.change")
    low: float | None = key("lower end of its interval", "effect.low")
    high: float | None = key("upper end of its interval", "effect.high")
    verdict: str = key("as of an effect", "effect.verdict")


class TimeCrossing(Object):
    """Where the running means cross."""

    at: float = key("when", "size", unit="s")
    low: float = key("lower end of its interval", unit="s")
    high: float = key("upper end of its interval", unit="s")
    better_above: bool = key("whether the configuration is ahead in longer sessions")


class ChoiceObject(Object):
    """For a session of which length a configuration is better than the baseline."""

    bench: str = key("on which bench")
    workload: str = key("of which workload")
    metric: str = key("of which metric")
    configuration: str = key("of which configuration")
    baseline: str = key("the configuration that is compared with")
    lengths: list[SessionObject] = key("the sessions asked for, the short one first", "sessions")
    crossing: TimeCrossing | None = key("where the running means are shown to cross")


class _Happened(NamedTuple):
    """An event, with the curve and the place that it is of."""

    place: TraceCurves
    curve: SoakCurve
    event: SoakEvent


def _events(answer: TraceAnswer) -> list[_Happened]:
    if not answer.kind.takes_sessions:
        return []
    return [_Happened(d, c, event) for d in answer.curves for c in d.curves for event in c.events]


class TraceObject(Object):
    """`ferocal frames --json`, `ferocal soak --json`."""

    baseline: str = key(
        "the configuration that the others are compared with", "comparison.baseline"
    )
    criteria_changed: list[str] = key("sentences on criteria that were changed", _trace_changes)
    cells: list[CellObject] = key("what was read", _trace_cells)
    effects: list[EffectObject] = key(
        "of the metrics that are made of traces", "comparison.effects"
    )
    events: list[EventObject] = key("falls and rises of soaks, in order of time", _events)
    sessions: list[ChoiceObject] = key("which is better for soaks of which length")
