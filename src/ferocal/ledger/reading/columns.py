"""Readings in bulk, as columns of numbers."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ferocal.ledger import tables
from ferocal.ledger.reading.corrections import read_corrections
from ferocal.ledger.reading.runs import read_excluded
from ferocal.ledger.reading.sql import COUNTS, ENDED_WELL, listed, of_runs
from ferocal.ledger.reading.visits import VisitRow, read_visits
from ferocal.ledger.store import Ledger
from ferocal.study.metrics import READ_AS, SETTLED, USUAL
from ferocal.terms.frozen import dataclass
from ferocal.traces.packing import unpack_columns

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]
BoolArray = NDArray[np.bool_]


@dataclass(frozen=True)
class ReadingColumns:
    """Valid readings as columns of numbers, and what the numbers stand for.

    ``run``, ``metric``, ``visit`` and ``position`` (of the run in its visit) are keys of
    shape (n,), ``value`` is the reading, ``samples`` how many single values it summarises
    (NaN where unknown), ``width`` half of the range in which it was read, mostly 0; where the
    reading ``settled`` within it, the range says nothing against it. ``bound``
    is +1 where the true value is above the reading, −1 where it is below, mostly 0.
    Corrections are in place. ``excluded`` counts the runs that are marked as not to be used;
    ``states_statistics`` says whether `read_statistics` finds any.
    """

    run: IntArray
    metric: IntArray
    visit: IntArray
    position: IntArray
    value: FloatArray
    samples: FloatArray
    width: FloatArray
    settled: BoolArray
    bound: IntArray
    metrics: dict[int, tuple[str, str, str]]
    visits: dict[int, VisitRow]
    excluded: int
    states_statistics: bool


def read_columns(ledger: Ledger) -> ReadingColumns:
    """All valid readings: of runs that ended well and are not excluded, no warm-ups."""
    # Two scans and a look-up here are faster than a join of as many rows there.
    query = f"SELECT id, visit_id, position FROM run WHERE {ENDED_WELL} ORDER BY id"
    runs = ledger.numbers(query, 3).astype(np.int64)
    visits, excluded = read_visits(ledger), read_excluded(ledger)
    active = [key for key, visit in visits.items() if visit.state == "active"]
    runs = runs[np.isin(runs[:, 1], active) & ~np.isin(runs[:, 0], list(excluded))]
    readings = ledger.numbers("SELECT run_id, metric_id, value FROM reading", 3)
    keys = readings[:, :2].astype(np.int64)
    place = np.searchsorted(runs[:, 0], keys[:, 0])
    valid = place < len(runs)
    valid[valid] = runs[place[valid], 0] == keys[valid, 0]
    place = place[valid]
    numbers = _read_details(ledger, keys)
    numbers["value"] = readings[:, 2]
    _correct(ledger, keys, numbers)
    metrics = ledger.rows("SELECT id, workload, name, unit FROM metric")
    return ReadingColumns(
        run=keys[valid, 0],
        metric=keys[valid, 1],
        visit=runs[place, 1],
        position=runs[place, 2],
        value=numbers["value"][valid],
        samples=numbers["samples"][valid],
        width=numbers["width"][valid],
        settled=numbers["settled"][valid] > 0,
        bound=numbers["bound"][valid].astype(np.int64),
        metrics={row[0]: row[1:] for row in metrics},
        visits=visits,
        excluded=len(excluded),
        states_statistics=bool(numbers["states"].any()),
    )


def read_statistics(ledger: Ledger) -> dict[str, dict[tuple[str, str, str], frozenset[str]]]:
    """By bench what readings are of several values, "" of those that do not state it.

    The keys are configuration, workload and metric.
    """
    # How a display was read says nothing of a statistic.
    stated = (
        f"CASE WHEN reading.statistic IN {listed(READ_AS)} THEN '' "
        "ELSE coalesce(reading.statistic, '') END"
    )
    query = (
        "SELECT DISTINCT visit.bench, visit.configuration, metric.workload, metric.name, "
        f"{stated} FROM {of_runs(tables.READING)}"
    )
    found: dict[str, dict[tuple[str, str, str], set[str]]] = {}
    for bench, *place, statistic in ledger.rows(query):
        found.setdefault(bench, {}).setdefault(tuple(place), set()).add(statistic)
    return {
        bench: {place: frozenset(texts) for place, texts in places.items()}
        for bench, places in found.items()
    }


def _correct(ledger: Ledger, keys: IntArray, numbers: dict[str, FloatArray]) -> None:
    """Put corrections in the place of the readings (run and metric) that they are of."""
    for (run, metric), correction in read_corrections(ledger).items():
        row = np.flatnonzero((keys[:, 0] == run) & (keys[:, 1] == metric))
        numbers["value"][row] = correction.value
        numbers["width"][row] = correction.width
        numbers["settled"][row] = correction.settled
        numbers["bound"][row] = {">": 1.0, "<": -1.0}.get(correction.bound or "", 0.0)


def _read_details(ledger: Ledger, keys: IntArray) -> dict[str, FloatArray]:
    """What few readings (run and metric) have, in columns as long as ``keys``; one scan."""
    columns = ", ".join(column for column, _ in _DETAILS.values())
    query = (
        f"SELECT run_id, metric_id, {columns} FROM reading WHERE samples IS NOT NULL "
        "OR low IS NOT NULL OR bound IS NOT NULL OR statistic IS NOT NULL"
    )
    rows = ledger.numbers(query, 2 + len(_DETAILS))
    found = {name: np.full(len(keys), default) for name, (_, default) in _DETAILS.items()}
    if len(rows):
        width = int(keys[:, 1].max()) + 1
        code, wanted = (pair[:, 0] * width + pair[:, 1] for pair in (keys, rows[:, :2]))
        order = np.argsort(code)
        place = order[np.searchsorted(code, wanted, sorter=order)]
        for number, name in enumerate(_DETAILS, 2):
            found[name][place] = rows[:, number]
        found["samples"][found["samples"] < 0] = np.nan
    return found


# What few readings have: how it is read, and what the others have instead.
_DETAILS = {
    "samples": ("coalesce(samples, -1)", np.nan),
    "width": ("coalesce((high - low) / 2, 0)", 0.0),
    "settled": (f"CASE WHEN statistic IN {listed((SETTLED, USUAL))} THEN 1 ELSE 0 END", 0.0),
    "bound": ("CASE bound WHEN '>' THEN 1 WHEN '<' THEN -1 ELSE 0 END", 0.0),
    "states": ("CASE WHEN statistic IS NULL THEN 0 ELSE 1 END", 0.0),
}


@dataclass(frozen=True)
class TraceRow:
    """A trace with the bench and the configuration that it is of, and the key of its visit."""

    bench: str
    configuration: str
    visit: int
    columns: dict[str, np.ndarray]


def read_traces(ledger: Ledger, kind: str, workload: str, metric: str) -> Iterator[TraceRow]:
    """The captures of one metric, run by run, of runs that count.

    They are read one at a time: together they may be larger than the memory.

    Raises
    ------
    LedgerError
        When the ledger cannot be read, or a trace is damaged.
    """
    excluded = read_excluded(ledger)
    query = (
        "SELECT trace.id, run.id, visit.bench, visit.configuration, visit.id "
        f"FROM {of_runs(tables.TRACE)} WHERE trace.kind = ? AND trace.metric = ? "
        f"AND run.workload = ? AND {COUNTS} ORDER BY run.id, trace.number"
    )
    rows = ledger.rows(query, [kind, metric, workload])
    for key, run_id, bench, configuration, visit_id in rows:
        if run_id not in excluded:
            content = ledger.rows("SELECT content FROM trace WHERE id = ?", [key])[0][0]
            yield TraceRow(bench, configuration, visit_id, unpack_columns(content))
