"""Runs: all of them with their readings, which count, which are lost, which are settled."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any

from ferocal.errors import UsageError
from ferocal.ledger import tables
from ferocal.ledger.reading.corrections import read_absences, read_corrections
from ferocal.ledger.reading.sql import OUTCOME, RUNS, listed, of_runs, parsed, places
from ferocal.ledger.reading.visits import read_places
from ferocal.ledger.records import FAILURES, SETTLED, Outcome, Slot
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import significant


def read_excluded(ledger: Ledger) -> dict[int, str]:
    """Runs that are excluded at present, by key, with the reason."""
    query = "SELECT run_id, excluded, reason FROM mark ORDER BY id"
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
    found = ledger.rows(
        "SELECT run.id, run.uid, run.started_at, visit.bench, visit.configuration, visit.round, "
        f"visit.uid, run.position, run.workload, run.number, run.warmup, {OUTCOME}, run.reason, "
        f"run.wall, run.conditions, visit.state, visit.name, visit.id FROM {RUNS} "
        "ORDER BY run.started_at, run.position, run.id"
    )
    in_time = read_places(ledger)  # afterwards: visits may be made meanwhile
    # Within a visit that was measured here the runs follow each other, whatever the clock did.
    rows = sorted(
        found,
        key=lambda row: (in_time[row[17]], row[7]) if in_time[row[17]][1] else ((row[2], 0), 0),
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
            warmup=bool(row[10]),
            outcome="not active" if row[15] != "active" else row[11],
            reason=row[12],
            excluded=excluded.get(row[0]),
            wall=row[13],
            conditions=parsed(row[14]),
            values=values.get(row[0], {}),
            absences=absences.get(row[0], {}),
        )
        for row in rows
    ]


def _read_values(ledger: Ledger) -> dict[int, dict[str, RunReading]]:
    query = (
        "SELECT reading.run_id, metric.id, metric.name, reading.value, metric.unit, reading.low, "
        "reading.high, reading.bound, reading.samples, reading.statistic "
        "FROM reading JOIN metric ON metric.id = reading.metric_id"
    )
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
    rows = ledger.rows("SELECT id, uid FROM run")
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
        raise UsageError(f"{', '.join(problems)}; nothing was changed (ids: ferocal runs)")
    return found


def describe_runs(ledger: Ledger, keys: Sequence[int]) -> list[str]:
    """Runs in words: the id, where each was taken, and what was read."""
    query = (
        "SELECT run.id, run.uid, visit.configuration, run.workload, visit.round "
        f"FROM {RUNS} WHERE run.id IN {places(len(keys))}"
    )
    rows = {row[0]: row for row in ledger.rows(query, keys)}
    texts = []
    for key in keys:
        _, uid, configuration, workload, number = rows[key]
        place = [configuration, workload, *([] if number is None else [f"round {number}"])]
        read = [f"{name} {text}" for name, text in metrics_of_run(ledger, key).items()]
        texts.append(f"{uid[:ID_LENGTH]} ({', '.join([*place, *read[:_MOST_READ]])})")
    return texts


def workload_of_run(ledger: Ledger, key: int) -> tuple[str, str]:
    """The id and the workload of a run."""
    row: tuple[str, str] = ledger.rows("SELECT uid, workload FROM run WHERE id = ?", [key])[0]
    return row


# By workload, the metrics that a run of it has to have: names, with the unit of single values.
Wanted = Mapping[str, Collection[tuple[str, str | None]]]


# What tells one place of the plan from others.
_SLOT = "visit.round, visit.configuration, run.workload, run.number"


def settled_slots(
    ledger: Ledger, bench: str, *, retry: bool, wanted: Wanted | None = None
) -> set[Slot]:
    """Places of the plan that need no further run; with ``retry`` failed and excluded ones do.

    A run that ended well settles its place only if it has every ``wanted`` metric: one that is
    named otherwise, or is in another unit, has not been measured yet.
    """
    outcomes = (Outcome.OK,) if retry else SETTLED
    excluded = read_excluded(ledger) if retry else {}
    query = (
        f"SELECT run.id, {_SLOT}, run.outcome FROM {RUNS} WHERE run.outcome IN {listed(outcomes)} "
        "AND NOT run.warmup AND visit.state = 'active' AND visit.bench = ?"
    )
    rows = ledger.rows(query, [bench])
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
    query = (
        f"SELECT run.id, run.uid FROM {RUNS} WHERE run.outcome = '{Outcome.INTERRUPTED}' "
        "AND NOT run.warmup AND visit.state = 'active' AND visit.bench = ? "
        f"AND ({_SLOT}) = (?, ?, ?, ?) ORDER BY run.id DESC"
    )
    rows = ledger.rows(query, [bench, slot.round, slot.configuration, slot.workload, slot.number])
    found = ((key, uid, metrics_of_run(ledger, key)) for key, uid in rows)
    return next((IncompleteRun(*row) for row in found if row[2]), None)


def metrics_of_run(ledger: Ledger, run_id: int) -> dict[str, str]:
    """What was recorded of a run: by metric, a reading with its unit, or a mark."""
    readings = f"SELECT metric.name, value, metric.unit {_OF_METRIC.format(tables.READING.name)}"
    marks = f"SELECT metric.name, mark {_OF_METRIC.format(tables.ABSENCE.name)}"
    found = {
        name: f"{significant(value)} {unit}"
        for name, value, unit in ledger.rows(readings, [run_id])
    }
    return found | dict(ledger.rows(marks, [run_id]))


_OF_METRIC = "FROM {} JOIN metric ON metric.id = metric_id WHERE run_id = ?"


def _lacking(ledger: Ledger, wanted: Wanted) -> set[int]:
    """Runs that ended well without all metrics that are wanted of their workload."""
    has: dict[int, set[tuple[str, str | None]]] = {}
    for table in ("reading", "absence"):
        query = f"SELECT run_id, name, unit FROM {table} JOIN metric ON metric.id = metric_id"
        for key, name, unit in ledger.rows(query):
            # The file of a trace may be absent as well.
            has.setdefault(key, set()).update(((name, unit), (name, None)))
    for key, name in ledger.rows("SELECT run_id, metric FROM trace"):
        has.setdefault(key, set()).add((name, None))
    runs = ledger.rows("SELECT id, workload FROM run WHERE outcome = ?", [Outcome.OK])
    return {
        key for key, workload in runs if not set(wanted.get(workload, ())) <= has.get(key, set())
    }


def read_lost(ledger: Ledger) -> Counter[tuple[str, str, str, str]]:
    """Runs that do not count, by bench, workload, configuration and how they were lost.

    Runs that failed or timed out and were not taken again, and runs that are excluded.
    """
    query = (
        f"SELECT run.id, {OUTCOME}, visit.bench, {_SLOT} FROM {RUNS} "
        "WHERE NOT run.warmup AND visit.state = 'active' AND "
    )
    failed = ledger.rows(f"{query} run.outcome IN {listed(FAILURES)}")
    marked = f"run.outcome = '{Outcome.OK}' AND run.id IN (SELECT run_id FROM mark)"
    excluded = read_excluded(ledger)
    rows = ledger.rows(query + marked)
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
    query = (
        f"SELECT reading.value FROM {of_runs(tables.READING)} WHERE visit.bench = ? "
        "AND visit.configuration = ? AND metric.workload = ? AND metric.name = ? "
        f"AND run.outcome = '{Outcome.OK}' AND reading.bound IS NULL"
    )
    return [row[0] for row in ledger.rows(query, [bench, configuration, workload, metric])]


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
    query = (
        f"SELECT visit.configuration, run.workload, visit.round, {OUTCOME}, run.reason FROM {RUNS} "
        f"WHERE run.outcome IN {listed(FAILURES)} ORDER BY run.id"
    )
    return [FailedRun(*row) for row in ledger.rows(query)]


def count_outcomes(ledger: Ledger) -> Counter[str]:
    """Number of runs by outcome, warm-ups left out."""
    query = f"SELECT {OUTCOME}, count(*) FROM run WHERE NOT run.warmup GROUP BY 1"
    return Counter(dict(ledger.rows(query)))


def known_run_uids(ledger: Ledger, uids: Sequence[str]) -> list[str]:
    """Which of the ids are those of runs in the ledger."""
    found: list[str] = []
    for start in range(0, len(uids), MOST_IN_A_QUERY):
        part = uids[start : start + MOST_IN_A_QUERY]
        query = f"SELECT uid FROM run WHERE uid IN {places(len(part))}"
        found += [uid for (uid,) in ledger.rows(query, part)]
    return found
