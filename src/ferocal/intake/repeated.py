"""Rows of a file that are in the ledger already."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.readings import ID, Intake
from ferocal.ledger.reading.rows import RowCore, RowRest, read_rows
from ferocal.ledger.reading.runs import known_run_uids
from ferocal.ledger.store import Ledger
from ferocal.terms.times import same_moment

if TYPE_CHECKING:
    from ferocal.study.load import Study

# Numbers that went through a conversion of units differ in their last digits.
_DIGITS = 12


def find_repeated(study: Study, ledger: Ledger, intake: Intake) -> np.ndarray:
    """Which rows are in the ledger already, shape (n,).

    A row is if it equals a recorded one in bench, configuration, workload, metric and value,
    and in its round, visit and time as far as both state them. Each recorded row stands for one
    row only. A row that names a run by its id is if that run is there.
    """
    rows = _rows_of(study, intake)
    recorded = [
        (_rounded(core), rest._replace(started_at=same_moment(rest.started_at)))
        for core, rest in read_rows(ledger)
    ]
    wanted = {core for core, _ in rows}
    left: defaultdict[RowCore, Counter[RowRest]] = defaultdict(Counter)
    for core, rest in recorded:
        if core in wanted:
            left[core][rest] += 1
    named = {name for name in intake.run.used if ID.fullmatch(name)}
    there = set(known_run_uids(ledger, sorted(named)))
    repeated = np.array([name in there for name in intake.run.at(np.arange(len(rows)))], bool)
    # Rows that are the same in everything first, so that no other takes their place.
    for exact in (True, False):
        for n, (core, rest) in enumerate(rows):
            if not repeated[n] and core in left and intake.run[n] not in named:
                repeated[n] = _take(left[core], rest, exact=exact)
    return repeated


def _rows_of(study: Study, intake: Intake) -> list[tuple[RowCore, RowRest]]:
    places = [(workload, name) for workload, name, _ in study.read_metrics()]
    names = [configuration.name for configuration in study.configurations]
    every = np.arange(len(intake.value))
    columns = zip(
        intake.bench_of.tolist(),
        intake.configuration_of.tolist(),
        intake.series_of.tolist(),
        intake.value.tolist(),
        intake.bound.at(every),
        intake.round.tolist(),
        intake.visit.at(every),
        map(same_moment, intake.started_at.at(every)),
        strict=True,
    )
    return [
        (
            _rounded(RowCore(study.benches[b], names[c], places[s][0], places[s][1], value, bound)),
            RowRest(number, visit, at),
        )
        for b, c, s, value, bound, number, visit, at in columns
    ]


def _rounded(core: RowCore) -> RowCore:
    return core._replace(value=float(f"{core.value:.{_DIGITS}g}"))


def _take(left: Counter[RowRest], rest: RowRest, *, exact: bool) -> bool:
    """Take a recorded row that fits out of those that are left, if there is one."""
    candidates = [rest] if exact else [other for other in left if _is_compatible(rest, other)]
    for candidate in candidates:
        if left[candidate] > 0:
            left[candidate] -= 1
            return True
    return False


def _is_compatible(here: RowRest, there: RowRest) -> bool:
    unknown = RowRest(-1, "", "")
    return all(
        ours == theirs or nothing in (ours, theirs)
        for ours, theirs, nothing in zip(here, there, unknown, strict=True)
    )
