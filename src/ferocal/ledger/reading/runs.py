"""Runs: all of them with their readings, which count, which are lost, which are settled."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from ferocal.errors import UsageError
from ferocal.ledger import schema
from ferocal.ledger.reading.corrections import read_absences, read_corrections
from ferocal.ledger.reading.visits import read_places
from ferocal.ledger.records import FAILURES, SETTLED, Outcome, Slot
from ferocal.ledger.store import Ledger
from ferocal.terms.numbers import significant

# How a run ended; a timeout was called otherwise by earlier versions.
_OUTCOME = sa.case(
    (schema.run.c.outcome == Outcome.OVERRAN, str(Outcome.TIMEOUT)), else_=schema.run.c.outcome
).label("outcome")
# Of a run that counts, unless it is excluded; with the visit joined.
COUNTS = (
    schema.run.c.outcome == Outcome.OK,
    sa.not_(schema.run.c.warmup),
    schema.visit.c.state == "active",
)


def read_excluded(ledger: Ledger) -> dict[int, str]:
    """Runs that are excluded at present, by key, with the reason."""
    c = schema.mark.c
    query = sa.select(c.run_id, c.excluded, c.reason).order_by(c.id)
    latest = {run_id: (excluded, reason) for run_id, excluded, reason in ledger.rows(query)}
    return {run_id: reason for run_id, (excluded, reason) in latest.items() if excluded}


@dataclass(frozen=True)
class RunReading:
    """A reading of a run as it counts; see `records.Value`.

    ``before`` is what it was until it was corrected, for the reason ``corrected``.
    """

    value: float
    unit: str
    low: float | None = None
    high: float | None = None
    bound: str | None = None
    samples: int | None = None
    statistic: str | None = None
    before: float | None = None
    corrected: str | None = None


@dataclass(frozen=True)
class RunRow:
    """A run with its readings, as `ferocal runs` lists it.

    ``id`` is shortened, and so is ``visit`` unless people have named it. ``started_at`` is ""
    where the time is unknown. ``absences`` are, by metric, marks and reasons.
    """

    id: str
    started_at: str
    bench: str
    configuration: str
    round: int | None
    visit: str
    position: int
    workload: str
    number: int
    warmup: bool
    outcome: str
    reason: str | None
    excluded: str | None
    wall: float | None
    conditions: dict[str, Any] | None
    values: dict[str, RunReading]
    absences: dict[str, tuple[str, str | None]]

    @property
    def excuse(self) -> str:
        """Why the run does not count, empty if it does."""
        if self.excluded is not None:
            return f"excluded: {self.excluded}"
        if self.outcome == Outcome.OK:
            return ""
        return self.outcome if self.reason is None else f"{self.outcome}: {self.reason}"


# The store takes no more values in one query.
MOST_IN_A_QUERY = 10_000
# So many readings of a run name it well enough.
_MOST_READ = 2
# Enough of a random uid to be unique in a ledger of a million runs, nearly always.
ID_LENGTH = 10


def read_runs(ledger: Ledger) -> list[RunRow]:
    """All runs in the order of time, warm-ups included.

    The keys of runs are in this order too, but not after ledgers were merged.
    """
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(
            run.id, run.uid, run.started_at, visit.bench, visit.configuration, visit.round,
            visit.uid, run.position, run.workload, run.number, run.warmup, _OUTCOME,
            run.reason, run.wall, run.conditions, visit.state, visit.name,
            visit.id,
        )
        .join_from(schema.run, schema.visit)
        .order_by(run.started_at, run.position, run.id)
    )  # fmt: skip
    found = ledger.rows(query)
    places = read_places(ledger)  # afterwards: visits may be made meanwhile
    # Within a visit that was measured here the runs follow each other, whatever the clock did.
    rows = sorted(
        found,
        key=lambda row: (places[row[17]], row[7]) if places[row[17]][1] else ((row[2], 0), 0),
    )
    excluded, values = read_excluded(ledger), _read_values(ledger)
    absences: dict[int, dict[str, tuple[str, str | None]]] = {}
    for (run_id, _), gap in read_absences(ledger).items():
        absences.setdefault(run_id, {})[gap.metric] = (gap.mark, gap.reason)
    return [
        RunRow(
            id=row[1][:ID_LENGTH],
            started_at=row[2],
            bench=row[3],
            configuration=row[4],
            round=row[5],
            visit=row[16] or row[6][:ID_LENGTH],
            position=row[7],
            workload=row[8],
            number=row[9],
            warmup=row[10],
            outcome="not active" if row[15] != "active" else row[11],
            reason=row[12],
            excluded=excluded.get(row[0]),
            wall=row[13],
            conditions=row[14],
            values=values.get(row[0], {}),
            absences=absences.get(row[0], {}),
        )
        for row in rows
    ]


def _read_values(ledger: Ledger) -> dict[int, dict[str, RunReading]]:
    reading, metric = schema.reading.c, schema.metric.c
    query = sa.select(
        reading.run_id, metric.id, metric.name, reading.value, metric.unit, reading.low,
        reading.high, reading.bound, reading.samples, reading.statistic,
    ).join_from(schema.reading, schema.metric)  # fmt: skip
    corrections = read_corrections(ledger)
    values: dict[int, dict[str, RunReading]] = {}
    for run_id, metric_id, name, *columns in ledger.rows(query):
        read = RunReading(*columns)
        new = corrections.get((run_id, metric_id))
        if new is not None:
            read = replace(
                read,
                value=new.value,
                low=new.low,
                high=new.high,
                bound=new.bound,
                before=read.value,
                corrected=new.reason,
            )
        values.setdefault(run_id, {})[name] = read
    return values


# Of so few signs one may fit a run by chance.
_LEAST_ID = 6


def resolve_run_ids(ledger: Ledger, ids: Sequence[str]) -> list[int]:
    """Keys of the runs whose uids begin with the given texts.

    Raises
    ------
    UsageError
        When a text fits no run, or several, or is too short to mean one; all such are listed.
    """
    rows = ledger.rows(sa.select(schema.run.c.id, schema.run.c.uid))
    found, problems = [], []
    for text in ids:
        keys = [key for key, uid in rows if text and uid.startswith(text)]
        if len(text) < _LEAST_ID and keys:
            problems.append(f'"{text}" is too short: give at least {_LEAST_ID} characters of an id')
        elif len(keys) == 1:
            found.append(keys[0])
        else:
            many = f"is the beginning of {len(keys)} run ids; give more characters"
            problems.append(f'"{text}" {many if keys else "is not the id of a run"}')
    if problems:
        listed = ", ".join(problems)
        raise UsageError(f"{listed}; nothing was changed (ids: ferocal runs)")
    return found


def describe_runs(ledger: Ledger, keys: Sequence[int]) -> list[str]:
    """Runs in words: the id, where each was taken, and what was read."""
    run, visit = schema.run.c, schema.visit.c
    query = sa.select(run.id, run.uid, visit.configuration, run.workload, visit.round).join_from(
        schema.run, schema.visit
    )
    rows = {row[0]: row for row in ledger.rows(query.where(run.id.in_(keys)))}
    texts = []
    for key in keys:
        _, uid, configuration, workload, number = rows[key]
        place = [configuration, workload, *([] if number is None else [f"round {number}"])]
        read = [f"{name} {text}" for name, text in metrics_of_run(ledger, key).items()]
        texts.append(f"{uid[:ID_LENGTH]} ({', '.join([*place, *read[:_MOST_READ]])})")
    return texts


def workload_of_run(ledger: Ledger, key: int) -> tuple[str, str]:
    """The id and the workload of a run."""
    query = sa.select(schema.run.c.uid, schema.run.c.workload).where(schema.run.c.id == key)
    return tuple(ledger.rows(query)[0])


# By workload, the metrics that a run of it has to have: names, with the unit of single values.
Wanted = Mapping[str, Collection[tuple[str, str | None]]]


def settled_slots(
    ledger: Ledger, bench: str, *, retry: bool, wanted: Wanted | None = None
) -> set[Slot]:
    """Places of the plan that need no further run; with ``retry`` failed and excluded ones do.

    A run that ended well settles its place only if it has every ``wanted`` metric: one that is
    named otherwise, or is in another unit, has not been measured yet.
    """
    outcomes = (Outcome.OK,) if retry else SETTLED
    excluded = read_excluded(ledger) if retry else {}
    visit, run = schema.visit.c, schema.run.c
    query = (
        sa.select(run.id, visit.round, visit.configuration, run.workload, run.number)
        .join_from(schema.run, schema.visit)
        .where(run.outcome.in_(outcomes), sa.not_(run.warmup), visit.state == "active")
        .where(visit.bench == bench)
    )
    rows = ledger.rows(query.add_columns(run.outcome))
    lacking = set() if wanted is None else _lacking(ledger, wanted)
    return {
        Slot(*row[1:5])
        for row in rows
        if row[0] not in excluded and not (row[5] == Outcome.OK and row[0] in lacking)
    }


@dataclass(frozen=True)
class IncompleteRun:
    """A run that was interrupted after an operator had given some of its readings.

    ``read`` has, by metric, a reading with its unit, or the mark in its place.
    """

    id: int
    uid: str
    read: dict[str, str]


def incomplete_run(ledger: Ledger, bench: str, slot: Slot) -> IncompleteRun | None:
    """The last incomplete run of a place of the plan, if there is one."""
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(run.id, run.uid)
        .join_from(schema.run, schema.visit)
        .where(run.outcome == Outcome.INTERRUPTED, sa.not_(run.warmup), visit.state == "active")
        .where(visit.bench == bench, visit.configuration == slot.configuration)
        .where(visit.round == slot.round)
        .where(run.workload == slot.workload, run.number == slot.number)
        .order_by(run.id.desc())
    )
    found = ((key, uid, metrics_of_run(ledger, key)) for key, uid in ledger.rows(query))
    return next((IncompleteRun(*row) for row in found if row[2]), None)


def metrics_of_run(ledger: Ledger, run_id: int) -> dict[str, str]:
    """What was recorded of a run: by metric, a reading with its unit, or a mark."""
    metric, reading, absence = schema.metric.c, schema.reading.c, schema.absence.c
    readings = sa.select(metric.name, reading.value, metric.unit).join_from(
        schema.reading, schema.metric
    )
    marks = sa.select(metric.name, absence.mark).join_from(schema.absence, schema.metric)
    found = {
        name: f"{significant(value)} {unit}"
        for name, value, unit in ledger.rows(readings.where(reading.run_id == run_id))
    }
    return found | {row[0]: row[1] for row in ledger.rows(marks.where(absence.run_id == run_id))}


def _lacking(ledger: Ledger, wanted: Wanted) -> set[int]:
    """Runs that ended well without all metrics that are wanted of their workload."""
    run, metric, trace = schema.run.c, schema.metric.c, schema.trace.c
    has: dict[int, set[tuple[str, str | None]]] = {}
    for table in (schema.reading, schema.absence):
        query = sa.select(table.c.run_id, metric.name, metric.unit).join_from(table, schema.metric)
        for key, name, unit in ledger.rows(query):
            # The file of a trace may be absent as well.
            has.setdefault(key, set()).update(((name, unit), (name, None)))
    for key, name in ledger.rows(sa.select(trace.run_id, trace.metric)):
        has.setdefault(key, set()).add((name, None))
    runs = ledger.rows(sa.select(run.id, run.workload).where(run.outcome == Outcome.OK))
    return {
        key for key, workload in runs if not set(wanted.get(workload, ())) <= has.get(key, set())
    }


def read_lost(ledger: Ledger) -> Counter[tuple[str, str, str, str]]:
    """Runs that do not count, by bench, workload, configuration and how they were lost.

    Runs that failed or timed out and were not taken again, and runs that are excluded.
    """
    run, visit = schema.run.c, schema.visit.c
    slot = (visit.round, visit.configuration, run.workload, run.number)
    query = sa.select(run.id, _OUTCOME, visit.bench, *slot).join_from(schema.run, schema.visit)
    query = query.where(sa.not_(run.warmup), visit.state == "active")
    failed = ledger.rows(query.where(run.outcome.in_(FAILURES)))
    marked = sa.select(schema.mark.c.run_id)
    excluded = read_excluded(ledger)
    rows = ledger.rows(query.where(run.outcome == Outcome.OK, run.id.in_(marked)))
    lost = Counter((row[2], row[5], row[4], "excluded") for row in rows if row[0] in excluded)
    benches = {row[2] for row in failed}
    settled = {bench: settled_slots(ledger, bench, retry=True) for bench in benches}
    for _, outcome, bench, *place in failed:
        if Slot(*place) not in settled[bench]:
            lost[bench, place[2], place[1], outcome] += 1
    return lost


def read_values(
    ledger: Ledger, bench: str, configuration: str, workload: str, metric: str
) -> list[float]:
    """The readings of a metric in one place so far, of runs that ended well."""
    run, visit, metrics = schema.run.c, schema.visit.c, schema.metric.c
    query = (
        sa.select(schema.reading.c.value)
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .join(schema.metric)
        .where(visit.bench == bench, visit.configuration == configuration)
        .where(metrics.workload == workload, metrics.name == metric, run.outcome == Outcome.OK)
        .where(schema.reading.c.bound.is_(None))
    )
    return [row[0] for row in ledger.rows(query)]


@dataclass(frozen=True)
class FailedRun:
    """A run that yielded no valid readings."""

    configuration: str
    workload: str
    round: int | None
    outcome: str
    reason: str | None


def read_failures(ledger: Ledger) -> list[FailedRun]:
    """Runs that failed or timed out, in order, warm-ups included."""
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(visit.configuration, run.workload, visit.round, _OUTCOME, run.reason)
        .join_from(schema.run, schema.visit)
        .where(run.outcome.in_(FAILURES))
        .order_by(run.id)
    )
    return [FailedRun(*row) for row in ledger.rows(query)]


def count_outcomes(ledger: Ledger) -> Counter[str]:
    """Number of runs by outcome, warm-ups left out."""
    run = schema.run.c
    query = sa.select(_OUTCOME, sa.func.count()).where(sa.not_(run.warmup)).group_by(_OUTCOME)
    return Counter({row[0]: row[1] for row in ledger.rows(query)})


def known_run_uids(ledger: Ledger, uids: Sequence[str]) -> list[str]:
    """Which of the ids are those of runs in the ledger."""
    found: list[str] = []
    for start in range(0, len(uids), MOST_IN_A_QUERY):
        query = sa.select(schema.run.c.uid).where(
            schema.run.c.uid.in_(uids[start : start + MOST_IN_A_QUERY])
        )
        found += [uid for (uid,) in ledger.rows(query)]
    return found
