"""Every run with its readings, in the order of time: which count, and why others do not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace

from ferocal.answers.criteria import CriteriaChange, find_criteria_changes
from ferocal.answers.selection import Selection
from ferocal.errors import UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.runs import RunRow, read_runs
from ferocal.ledger.reading.sessions import read_criteria
from ferocal.ledger.reading.visits import VisitRow, read_visits
from ferocal.study.derived import MetricKey
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest

# What can become of a run, as it is shown; `not active` is of the visit.
OUTCOMES = ("ok", "failed", "timeout", "interrupted", "disturbed", "not active", "running")


@dataclass(frozen=True)
class RunFilter:
    """Which runs are wanted besides those of a selection."""

    round: int | None = None
    outcome: str | None = None
    excluded: bool = False
    warmups: bool = False


@dataclass(frozen=True)
class RunList:
    """Runs in the order of time, with the readings that are wanted; ``total`` counts all runs.

    ``computed`` are wanted metrics that are not read, each with those it is computed from,
    ``set_aside`` are the wanted visits whose checks failed.
    """

    question: str
    benches: tuple[str, ...]
    runs: tuple[RunRow, ...]
    total: int
    criteria_changes: tuple[CriteriaChange, ...]
    computed: Mapping[MetricKey, Sequence[MetricKey]] = field(default_factory=dict)
    set_aside: tuple[VisitRow, ...] = ()


def list_runs(
    study: Study, selection: Selection | None = None, only: RunFilter | None = None
) -> RunList:
    """The wanted runs of a study.

    Raises
    ------
    UsageError
        When a name, a round or an outcome is unknown.
    LedgerError
        When the ledger is missing or cannot be read.
    """
    selection, only = selection or Selection(), only or RunFilter()
    selection, computed = _as_read(study, selection.resolve(study))
    with read_ledger(study.directory) as ledger:
        runs = read_runs(ledger)
        changes = find_criteria_changes(study, read_criteria(ledger))
        visits = [v for v in read_visits(ledger).values() if v.state != "active"]
    _check_filter(only, runs)
    chosen = [_with_wanted_readings(run, selection) for run in runs if _fits(run, selection, only)]
    aside = [v for v in visits if selection.includes(v.bench, v.configuration)]
    return RunList(
        study.head.question, study.benches, tuple(chosen), len(runs), changes, computed,
        tuple(v for v in aside if only.round in (None, v.round)),
    )  # fmt: skip


def _as_read(
    study: Study, selection: Selection
) -> tuple[Selection, dict[MetricKey, list[MetricKey]]]:
    """The selection with what is read in the place of what is computed from it."""
    places = selection.places or frozenset()
    asked = [place for place in study.formulas if place in places]
    if not asked or not selection.metrics:
        return selection, {}
    parts = {
        place: [(term.workload, term.metric) for term in study.formulas[place].readings]
        for place in asked
    }
    read = places.difference(asked).union(*parts.values())
    return replace(selection, places=frozenset(read)), parts


def _check_filter(only: RunFilter, runs: list[RunRow]) -> None:
    if only.outcome is not None and only.outcome not in OUTCOMES:
        raise UsageError(f'no outcome "{only.outcome}"; {closest(only.outcome, OUTCOMES)}')
    rounds = sorted({run.round for run in runs if run.round is not None})
    if only.round is not None and only.round not in rounds:
        known = f"rounds {rounds[0]} to {rounds[-1]}" if rounds else "no rounds"
        raise UsageError(f"no round {only.round}: {known} were measured")


def _fits(run: RunRow, selection: Selection, only: RunFilter) -> bool:
    names = [*run.values, *run.absences]
    place = (run.bench, run.configuration, run.workload)
    return (
        (any(selection.wants(*place, n) for n in names) if names else selection.wants_run(*place))
        and (only.warmups or not run.warmup)
        and (run.excluded is not None or not only.excluded)
        and only.round in (None, run.round)
        and only.outcome in (None, run.outcome)
    )


def _with_wanted_readings(run: RunRow, selection: Selection) -> RunRow:
    places = selection.places
    if places is None:
        return run
    values = {n: value for n, value in run.values.items() if (run.workload, n) in places}
    absences = {n: gap for n, gap in run.absences.items() if (run.workload, n) in places}
    return replace(run, values=values, absences=absences)
