"""What stands for readings: corrections of wrong ones, and marks where there are none."""

from __future__ import annotations

import math

from ferocal.ledger import tables
from ferocal.ledger.reading.sql import of_runs
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass

# The keys of a run and a metric, which name a reading.
ReadingKey = tuple[int, int]


@dataclass(frozen=True)
class Correction:
    """What a reading was corrected to, and why; see `records.Value` for the ends and the bound."""

    value: float
    low: float | None
    high: float | None
    bound: str | None
    reason: str

    @property
    def width(self) -> float:
        """Half of the range in which it was read, 0 where it is no range."""
        return 0.0 if self.low is None or self.high is None else (self.high - self.low) / 2

    @property
    def settled(self) -> bool:
        """Whether it is a number that stayed within a range, and not the middle of one."""
        if self.low is None or self.high is None:
            return False
        middle = (self.low + self.high) / 2
        return not math.isclose(self.value, middle, rel_tol=1e-9, abs_tol=1e-12)


def read_corrections(ledger: Ledger) -> dict[ReadingKey, Correction]:
    """The latest correction of every reading that was corrected."""
    rows = ledger.rows(
        "SELECT run_id, metric_id, value, low, high, bound, reason FROM correction ORDER BY at, id"
    )
    return {(row[0], row[1]): Correction(*row[2:]) for row in rows}


@dataclass(frozen=True)
class CorrectedReading:
    """A reading that was corrected, of a run by its id: what it was, what it is, and why."""

    run: str
    configuration: str
    workload: str
    metric: str
    unit: str
    before: float
    now: float
    reason: str


def read_corrected(ledger: Ledger) -> tuple[CorrectedReading, ...]:
    """All readings that were corrected, each with its latest correction."""
    corrections = read_corrections(ledger)
    if not corrections:
        return ()
    rows = ledger.rows(
        "SELECT run.id, metric.id, run.uid, visit.configuration, metric.workload, metric.name, "
        f"metric.unit, reading.value FROM {of_runs(tables.READING)} "
        "WHERE run.id IN (SELECT run_id FROM correction) ORDER BY run.id"
    )
    return tuple(
        CorrectedReading(
            row[2][:10],
            row[3],
            row[4],
            row[5],
            row[6],
            row[7],
            corrections[key].value,
            corrections[key].reason,
        )
        for row in rows
        if (key := (row[0], row[1])) in corrections
    )


@dataclass(frozen=True)
class AbsenceRow:
    """A reading that could not be taken: where, how that is called, and why, if stated."""

    bench: str
    configuration: str
    workload: str
    metric: str
    unit: str
    mark: str
    reason: str | None


def read_absences(ledger: Ledger) -> dict[ReadingKey, AbsenceRow]:
    """All marks in the place of readings, of runs and visits that count."""
    query = (
        "SELECT absence.run_id, absence.metric_id, visit.bench, visit.configuration, "
        "metric.workload, metric.name, metric.unit, absence.mark, absence.reason "
        f"FROM {of_runs(tables.ABSENCE)} WHERE visit.state = 'active' ORDER BY run.id"
    )
    return {(row[0], row[1]): AbsenceRow(*row[2:]) for row in ledger.rows(query)}
