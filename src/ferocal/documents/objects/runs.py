"""What ``ferocal runs --json`` and ``ferocal note --json`` print."""

from __future__ import annotations

from typing import Any

from ferocal.documents.objects.base import Object, Text, key
from ferocal.documents.objects.shared import CRITERIA_CHANGED


class ReadingObject(Object):
    """A reading of a run."""

    value: float = key("the value that counts")
    unit: str = key("its unit")
    low: float | None = key("lower end of the range that was read")
    high: float | None = key("upper end of it")
    bound: str | None = key("`>` or `<` where it is only a bound")
    samples: int | None = key("how many samples it is made of")
    statistic: str | None = key("which statistic of them it is")
    before: float | None = key("what it was until it was corrected")
    corrected: str | None = key("why it was corrected")


class AbsenceObject(Object):
    """A reading that is not there."""

    mark: str = key("what stands in its place", lambda absence: absence[0])
    reason: str | None = key("why it is not there", lambda absence: absence[1])


class RunObject(Object):
    """A run."""

    id: str = key("what `ferocal exclude` takes")
    started_at: Text = key("when it began, ISO 8601; null if unknown")
    bench: str = key("where")
    configuration: str = key("under which configuration")
    round: int | None = key("in which round")
    visit: str = key("in which visit")
    position: int = key("its place in the visit")
    workload: str = key("what was run")
    number: int = key("which run of the workload in the visit")
    warmup: bool = key("whether it is a warm-up")
    outcome: str = key(
        "`ok`, `failed`, `timeout`, `disturbed`, `not active`, `interrupted`, `running`"
    )
    reason: str | None = key("why it is not ok")
    excluded_because: str | None = key("why it is excluded, if it is", "excluded")
    wall: float | None = key("how long it took", unit="s")
    conditions: dict[str, Any] | None = key(
        "`before` and `after` the run ([tables.md](tables.md) has the keys), and during it "
        "`busy_share_of_others` and `stolen_share`, known to `busy_resolution`, `busiest_others`, "
        "`processors_allowed`, `utilisation` (processor time over wall time and these), "
        "`left_behind`"
    )
    values: dict[str, ReadingObject] = key("the readings by metric")
    absences: dict[str, AbsenceObject] = key("by metric, readings that are not there")


class RunListObject(Object):
    """`ferocal runs --json`."""

    criteria_changed: list[str] = CRITERIA_CHANGED
    run_list: list[RunObject] = key("the runs in order of time", "runs")


class NoteObject(Object):
    """A note."""

    recorded_at: str = key("when it was recorded, ISO 8601", lambda pair: pair[0])
    text: str = key("the note", lambda pair: pair[1].text)
    configuration: str | None = key(
        "on which configuration it is", lambda pair: pair[1].configuration
    )
    workload: str | None = key("on which workload it is", lambda pair: pair[1].workload)
    run: str | None = key("on which run it is", lambda pair: pair[1].run)
    date: str | None = key("when that was seen", lambda pair: pair[1].date)
    source: str | None = key("where that was seen", lambda pair: pair[1].source)


class NotesObject(Object):
    """`ferocal note --json`."""

    notes: list[NoteObject] = key("the notes", lambda notes: notes)


class NoiseFloorObject(Object):
    """A noise floor."""

    bench: str = key("where")
    workload: str = key("what was run")
    metric: str = key("what was read")
    unit: str = key("its unit")
    scale: str = key("`ratio` (natural logarithms) or `difference`")
    variance: float = key("of the summaries of visits")
    degrees: float = key("its degrees of freedom")
    runs_per_visit: float = key("runs per visit", "runs")
    run_variance: float | None = key("of runs within visits")
    run_degrees: int = key("its degrees of freedom")
    measured_at: Text = key("when, ISO 8601")
    source: str = key("where it is from")


class NoiseFloorsObject(Object):
    """`ferocal noise-floor --json`."""

    noise_floors: list[NoiseFloorObject] = key("the noise floors", lambda records: records)
