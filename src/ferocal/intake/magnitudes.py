"""Recorded readings of another order of magnitude than their fellows, reported immediately."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.intake.typed import is_odd
from ferocal.ledger import tables
from ferocal.ledger.reading.runs import ID_LENGTH, MOST_IN_A_QUERY
from ferocal.ledger.reading.sql import COUNTS, of_runs, places
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.intake.readings import Intake
    from ferocal.study.load import Study

# Beside so many earlier readings those of a file are compared with each other only.
_MOST_EARLIER = 100_000


@dataclass(frozen=True)
class OddReading:
    """A reading that is far from what the others of its metric on its bench are near."""

    run: str
    configuration: str
    workload: str
    metric: str
    unit: str
    value: float
    fellows: float


def find_odd(study: Study, ledger: Ledger, intake: Intake) -> list[OddReading]:
    """The odd ones among readings that were just recorded, the latest run of each first.

    A reading is compared with the others of its configuration, else with those of all.
    """
    metrics = study.read_metrics()
    series = {(w, n, m.unit): s for s, (w, n, m) in enumerate(metrics)}
    names = [c.name for c in study.configurations]
    counts = ~intake.bound.given & ~intake.excluded.given & np.isfinite(intake.value)
    columns = (intake.series_of, intake.bench_of, intake.configuration_of, intake.value)
    new = np.stack([column[counts] for column in columns], axis=1)
    size = ledger.rows("SELECT count(*) FROM reading")[0][0]
    earlier = _readings(ledger) if size <= _MOST_EARLIER else []
    known = [
        (series[row[:3]], study.benches.index(row[3]), names.index(row[4]), row[5])
        for row in earlier
        if row[:3] in series and row[3] in study.benches and row[4] in names
    ]
    everything = np.array(known, dtype=float).reshape(-1, 4) if known else new
    odd = _odd_rows(everything)
    if odd and known:
        fresh = {tuple(row) for row in new.tolist()}
        odd = [(row, fellows) for row, fellows in odd if tuple(row) in fresh]
    latest = _latest_runs(ledger, sorted({p[3] for p, _ in odd}))
    found = []
    for (s, b, c, value), fellows in odd:
        workload, name, declared = metrics[int(s)]
        configuration = names[int(c)]
        uid = latest.get((workload, name, study.benches[int(b)], configuration, value), "")
        found.append(
            OddReading(
                uid[:ID_LENGTH], configuration, workload, name, declared.unit, value, fellows
            )
        )
    return found


def _readings(ledger: Ledger, values: Sequence[float] = ()) -> list[Any]:
    """Workload, metric, unit, bench, configuration, value and run of readings, the latest first.

    Only those with one of the values, if any are given.
    """
    some = f" AND reading.value IN {places(len(values))}" if values else ""
    query = (
        "SELECT metric.workload, metric.name, metric.unit, visit.bench, visit.configuration, "
        f"reading.value, run.uid FROM {of_runs(tables.READING)} "
        f"WHERE {COUNTS} AND reading.bound IS NULL{some} ORDER BY run.id DESC"
    )
    return ledger.rows(query, values)


def _latest_runs(ledger: Ledger, values: Sequence[float]) -> dict[tuple[Any, ...], str]:
    """By workload, metric, bench, configuration and value the id of the latest run with it."""
    latest: dict[tuple[Any, ...], str] = {}
    for start in range(0, len(values), MOST_IN_A_QUERY):
        some = values[start : start + MOST_IN_A_QUERY]
        for workload, metric, _, *place, uid in _readings(ledger, some):
            latest.setdefault((workload, metric, *place), uid)
    return latest


def _odd_rows(rows: np.ndarray) -> list[tuple[list[Any], float]]:
    """Odd rows of series, bench, configuration and value, with what their fellows are near."""
    found = []
    order = np.lexsort(rows[:, 2::-1].T)
    # There may be a million rows: what is not needed of them is not copied.
    fellows = np.zeros(len(rows), dtype=np.int32)
    for where in _groups(rows, order, 3):
        fellows[where] = len(where)
        members = rows[where]
        if len(members) > 1 and _apart(members):
            found += [(r, f) for r, f in _held(members, members) if is_odd(r[3], f)]
    for where in _groups(rows, order, 2):
        members, alone = rows[where], fellows[where] == 1
        if alone.any() and _apart(members):
            found += [(r, f) for r, f in _held(members[alone], members) if is_odd(r[3], f)]
    return found


def _groups(rows: np.ndarray, order: np.ndarray, columns: int) -> list[np.ndarray]:
    """The places of rows in an order, by what they have in their first columns."""
    if not len(rows):
        return []
    differ = np.zeros(len(rows) - 1, dtype=bool)
    for column in rows.T[:columns]:
        ordered = column[order]
        differ |= ordered[1:] != ordered[:-1]
    return np.split(order, np.flatnonzero(differ) + 1)


def _apart(rows: np.ndarray) -> bool:
    """Whether any two of the rows are of another order of magnitude."""
    return is_odd(float(rows[:, 3].max()), float(rows[:, 3].min()))


def _held(rows: np.ndarray, among: np.ndarray) -> list[tuple[list[Any], float]]:
    """Each row with the median of the others."""
    ordered = np.sort(among[:, 3])
    place = np.searchsorted(ordered, rows[:, 3])
    # The middle ones of the others: those behind the row itself have moved up by one.
    low, high = (len(ordered) - 2) // 2, (len(ordered) - 1) // 2
    medians = (ordered[low + (low >= place)] + ordered[high + (high >= place)]) / 2
    return list(zip(rows.tolist(), medians.tolist(), strict=True))
