"""Reading the ledger in bulk, as columns."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray

from ferocal.ledger import schema
from ferocal.ledger.records import FloorRecord, Outcome, Slot
from ferocal.ledger.store import Ledger

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Columns:
    """Valid readings as columns of numbers, and what the numbers stand for.

    ``run``, ``metric``, ``visit`` and ``position`` (of the run in its visit) are keys of
    shape (n,), ``value`` is the reading, ``samples`` how many single values it summarises
    (NaN where unknown), ``width`` half of the range in which it was read, mostly 0.
    ``excluded`` counts the runs that are marked as not to be used.
    """

    run: IntArray
    metric: IntArray
    visit: IntArray
    position: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]
    excluded: int


@dataclass(frozen=True)
class VisitRow:
    """A visit as it was recorded."""

    bench: str
    configuration: str
    round: int | None
    started_at: str
    state: str
    checks: list[dict[str, Any]]
    facts_id: int
    subjects: dict[str, Any]
    remarks: list[str]
    known: bool


# Of a run that counts, unless it is excluded; with the visit joined.
COUNTS = (
    schema.run.c.outcome == Outcome.OK,
    sa.not_(schema.run.c.warmup),
    schema.visit.c.state == "active",
)


def read_columns(ledger: Ledger) -> Columns:
    """All valid readings: of runs that ended well and are not excluded, no warm-ups."""
    reading, run = schema.reading.c, schema.run.c
    # Two scans and a look-up here are faster than a join of as many rows there.
    query = sa.select(run.id, run.visit_id, run.position)
    query = query.where(run.outcome == Outcome.OK, sa.not_(run.warmup)).order_by(run.id)
    runs = ledger.numbers(query, 3).astype(np.int64)
    visits, excluded = read_visits(ledger), read_excluded(ledger)
    active = [key for key, visit in visits.items() if visit.state == "active"]
    runs = runs[np.isin(runs[:, 1], active) & ~np.isin(runs[:, 0], list(excluded))]
    readings = ledger.numbers(sa.select(reading.run_id, reading.metric_id, reading.value), 3)
    keys = readings[:, :2].astype(np.int64)
    place = np.searchsorted(runs[:, 0], keys[:, 0])
    valid = place < len(runs)
    valid[valid] = runs[place[valid], 0] == keys[valid, 0]
    place = place[valid]
    metric = schema.metric.c
    metrics = sa.select(metric.id, metric.workload, metric.name, metric.unit)
    return Columns(
        run=keys[valid, 0],
        metric=keys[valid, 1],
        visit=runs[place, 1],
        position=runs[place, 2],
        value=readings[valid, 2],
        samples=_told(ledger, keys, reading.samples, np.nan)[valid],
        width=_told(ledger, keys, (reading.high - reading.low) / 2, 0.0)[valid],
        metrics={row[0]: tuple(row[1:]) for row in ledger.rows(metrics)},
        visits=visits,
        excluded=len(excluded),
    )


def _told(
    ledger: Ledger, keys: IntArray, column: sa.ColumnElement[Any], default: float
) -> FloatArray:
    """What few readings (run and metric) have besides their value; ``default`` for the rest."""
    values = np.full(len(keys), default)
    c = schema.reading.c
    query = sa.select(c.run_id, c.metric_id, column).where(column.is_not(None))
    told = ledger.numbers(query, 3)
    if len(told):
        width = int(keys[:, 1].max()) + 1
        code, wanted = (own[:, 0] * width + own[:, 1] for own in (keys, told[:, :2]))
        order = np.argsort(code)
        values[order[np.searchsorted(code, wanted, sorter=order)]] = told[:, 2]
    return values


def read_excluded(ledger: Ledger) -> dict[int, str]:
    """Runs that are excluded at present, by key, with the reason."""
    c = schema.mark.c
    query = sa.select(c.run_id, c.excluded, c.reason).order_by(c.id)
    latest = {run_id: (excluded, reason) for run_id, excluded, reason in ledger.rows(query)}
    return {run_id: reason for run_id, (excluded, reason) in latest.items() if excluded}


def read_visits(ledger: Ledger) -> dict[int, VisitRow]:
    """All visits by key, in the order in which they were made."""
    c = schema.visit.c
    query = sa.select(
        c.id,
        c.bench,
        c.configuration,
        c.round,
        c.started_at,
        c.state,
        c.checks,
        c.facts_id,
        c.subjects,
        c.remarks,
        c.known,
    ).order_by(c.id)
    return {row[0]: VisitRow(*row[1:]) for row in ledger.rows(query)}


def read_facts(ledger: Ledger) -> dict[int, list[dict[str, Any]]]:
    """All distinct sets of facts by key."""
    query = sa.select(schema.facts.c.id, schema.facts.c.content)
    return {row[0]: row[1] for row in ledger.rows(query)}


def read_lost(ledger: Ledger) -> Counter[tuple[str, str, str]]:
    """Runs that do not count, by workload, configuration and what befell them.

    Runs that failed or overran and were not taken again, and runs that are excluded.
    """
    run, visit = schema.run.c, schema.visit.c
    slot = (visit.round, visit.configuration, run.workload, run.number)
    query = sa.select(run.id, run.outcome, *slot).join_from(schema.run, schema.visit)
    query = query.where(sa.not_(run.warmup), visit.state == "active")
    failed = ledger.rows(query.where(run.outcome.in_((Outcome.FAILED, Outcome.OVERRAN))))
    marked = sa.select(schema.mark.c.run_id)
    excluded = read_excluded(ledger)
    rows = ledger.rows(query.where(run.outcome == Outcome.OK, run.id.in_(marked)))
    lost = Counter((row[4], row[3], "excluded") for row in rows if row[0] in excluded)
    settled = ledger.settled(failures=False) if failed else set()
    for _, outcome, *place in failed:
        if Slot(*place) not in settled:
            lost[place[2], place[1], outcome] += 1
    return lost


def read_conditions(ledger: Ledger, most: int) -> list[tuple[int, dict[str, Any]]]:
    """Visit and conditions of runs that ended well, of every n-th if there are many.

    Conditions are long texts, and those of a few thousand runs tell what all tell.
    """
    run = schema.run.c
    wanted = (run.outcome == Outcome.OK, sa.not_(run.warmup), run.conditions.is_not(None))
    total = ledger.rows(sa.select(sa.func.count()).where(*wanted))[0][0]
    every = max(1, total // most)
    query = sa.select(run.visit_id, run.conditions).where(*wanted, run.id % every == 0)
    return [tuple(row) for row in ledger.rows(query.order_by(run.id))]


def read_floors(ledger: Ledger, bench: str) -> list[FloorRecord]:
    """The noise floors of a bench that were brought in, in order."""
    columns = [schema.floor.c[field.name] for field in fields(FloorRecord)]
    query = sa.select(*columns).where(schema.floor.c.bench == bench).order_by(schema.floor.c.id)
    return [FloorRecord(*row) for row in ledger.rows(query)]


def read_planned_rounds(ledger: Ledger) -> int | None:
    """The number of rounds with which measuring began; None before any."""
    c = schema.session.c
    query = sa.select(c.rounds).where(c.rounds > 0).order_by(c.started_at).limit(1)
    rows = ledger.rows(query)
    return rows[0][0] if rows else None


def read_values(ledger: Ledger, configuration: str, workload: str, metric: str) -> list[float]:
    """The readings of a metric under a configuration so far, of runs that ended well."""
    run, visit, own = schema.run.c, schema.visit.c, schema.metric.c
    query = (
        sa.select(schema.reading.c.value)
        .join_from(schema.reading, schema.run)
        .join(schema.visit)
        .join(schema.metric)
        .where(visit.configuration == configuration, own.workload == workload)
        .where(own.name == metric, run.outcome == Outcome.OK)
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
    """Runs that failed or overran, in order, warm-ups included."""
    run, visit = schema.run.c, schema.visit.c
    query = (
        sa.select(visit.configuration, run.workload, visit.round, run.outcome, run.reason)
        .join_from(schema.run, schema.visit)
        .where(run.outcome.in_((Outcome.FAILED, Outcome.OVERRAN)))
        .order_by(run.id)
    )
    return [FailedRun(*row) for row in ledger.rows(query)]


def count_outcomes(ledger: Ledger) -> Counter[str]:
    """Number of runs by outcome, warm-ups left out."""
    run = schema.run.c
    query = sa.select(run.outcome, sa.func.count()).where(sa.not_(run.warmup)).group_by(run.outcome)
    return Counter({row[0]: row[1] for row in ledger.rows(query)})


def last_levels(ledger: Ledger, bench: str) -> dict[str, str]:
    """The level of each factor that the bench was last switched to, as far as recorded."""
    c = schema.step.c
    query = (
        sa.select(c.factor, c.level)
        .where(c.bench == bench, c.kind.in_(("switch", "hold")), c.state.in_(("done", "continued")))
        .order_by(c.id)
    )
    return dict(ledger.rows(query))


def was_visited(ledger: Ledger, bench: str) -> bool:
    """Whether any visit to a bench has been recorded."""
    c = schema.visit.c
    return bool(ledger.rows(sa.select(c.id).where(c.bench == bench).limit(1)))


def waiting_hold(ledger: Ledger, bench: str) -> tuple[str, str] | None:
    """Factor and level of the hold at which measuring last ended, if it was at one."""
    c = schema.step.c
    query = sa.select(c.factor, c.level, c.state).where(c.bench == bench).order_by(c.id.desc())
    rows = ledger.rows(query.limit(1))
    return (rows[0][0], rows[0][1]) if rows and rows[0][2] == "waiting" else None


@dataclass(frozen=True)
class Durations:
    """Durations seen so far, in seconds: of runs by workload, and of switches."""

    runs: dict[str, float]
    switching: float | None


def read_durations(ledger: Ledger) -> Durations:
    """Mean durations of runs that ended, and of switches that took place."""
    run, visit = schema.run.c, schema.visit.c
    runs = (
        sa.select(run.workload, sa.func.avg(run.wall))
        .where(run.wall.is_not(None))
        .group_by(run.workload)
    )
    switching = sa.select(sa.func.avg(visit.switching)).where(visit.switching > 0)
    return Durations({row[0]: row[1] for row in ledger.rows(runs)}, ledger.rows(switching)[0][0])


def read_looks(ledger: Ledger) -> list[tuple[int, int]]:
    """Looks of a sequential study in order: round, and limit of rounds."""
    c = schema.look.c
    return [tuple(row) for row in ledger.rows(sa.select(c.round, c.limit).order_by(c.id))]
