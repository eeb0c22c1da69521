"""Evidence: the contents of a ledger for a study, in the terms of the analysis."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np

from ferocal.analysis.caveats.circumstances import Circumstances
from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.data.derived import add_derived
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.looks import LookPlan, plan_looks
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.verdicts import CONFIDENCE
from ferocal.answers.circumstances import (
    find_busy,
    find_circumstances,
    find_conditions,
    find_unproven,
)
from ferocal.answers.criteria import (
    CriteriaChange,
    StudyChange,
    changes_by_place,
    find_criteria_changes,
    find_study_changes,
)
from ferocal.answers.definitions import find_definition_changes
from ferocal.answers.metrics import study_series
from ferocal.answers.release_noise import ReleaseSearches
from ferocal.answers.rounds import find_rounds
from ferocal.ledger.reading.additions import read_noise_floors, read_notes
from ferocal.ledger.reading.columns import ReadingColumns, read_columns, read_statistics
from ferocal.ledger.reading.corrections import (
    AbsenceRow,
    CorrectedReading,
    ReadingKey,
    read_absences,
    read_corrected,
)
from ferocal.ledger.reading.planned import Progress, read_progress
from ferocal.ledger.reading.runs import read_lost
from ferocal.ledger.reading.sessions import (
    Snapshot,
    read_criteria,
    read_kinds,
    read_look_limits,
    read_looks,
    read_planned_rounds,
    read_snapshots,
)
from ferocal.ledger.reading.visits import VisitRow, read_conditions, recorded_facts
from ferocal.ledger.records import NoiseFloorRecord, Note
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.terms.formulas import Declared, walk
from ferocal.terms.frozen import dataclass

# Conditions of so many runs are looked at; of more, every n-th.
_MOST_CONDITIONS = 2000


# By configuration, workload and derived metric, why values are missing, and how many.
Uncomputed = dict[tuple[str, str, str], list[tuple[str, int]]]


@dataclass(frozen=True)
class Evidence:
    """The contents of a ledger for a study.

    ``releases`` looks for steps along the releases of the study, None where no factor is ordered.
    ``visits`` are in the order in which they were made, which ``visit_order`` has by their keys;
    ``facts`` are by the key that visits name.
    ``contexts`` are by bench, without what depends on the baseline of a comparison, and
    ``noise_floors`` by bench and series. ``looks`` is the plan of a study that is measured until
    decided, ``looks_taken`` the rounds after which looks were recorded; ``kinds`` says by bench
    how readings came ("measure", "enter", "load"), and ``progress`` how much of the plan is there.
    ``corrected`` are readings that were wrong, ``set_aside`` visits whose checks failed.
    ``left_out`` counts readings that the study file no longer knows, ``excluded`` the runs that
    are marked as not to be used.
    """

    readings: Readings
    releases: ReleaseSearches | None
    visits: list[VisitRow]
    visit_order: dict[int, int]
    facts: dict[int, list[dict[str, Any]]]
    contexts: dict[str, Context]
    noise_floors: dict[tuple[str, Series], NoiseFloor]
    looks: LookPlan | None
    looks_taken: dict[str, tuple[int, ...]]
    kinds: dict[str, frozenset[str]]
    absences: dict[ReadingKey, AbsenceRow]
    planned_rounds: dict[str, int]
    progress: dict[str, Progress]
    corrected: tuple[CorrectedReading, ...]
    set_aside: tuple[VisitRow, ...]
    notes: tuple[Note, ...]
    criteria_changes: tuple[CriteriaChange, ...]
    study_changes: tuple[StudyChange, ...]
    left_out: int
    excluded: int

    @property
    def confidence(self) -> float:
        """The level of intervals: in a study that is measured until decided, that of one look."""
        return self.looks.confidence if self.looks else CONFIDENCE


def gather(study: Study, ledger: Ledger) -> Evidence:
    """The evidence in the ledger at one moment, in the terms of the study file."""
    with ledger.snapshot():
        return _gather(study, ledger)


def _gather(study: Study, ledger: Ledger) -> Evidence:
    columns = read_columns(ledger)
    order = _in_order_of_time(columns.visits)
    readings, known, stray = _readings(study, columns, order)
    readings, uncomputed = _with_derived(study, readings)
    visits = {key: columns.visits[key] for key in order}
    facts = recorded_facts(ledger)
    limits = read_look_limits(ledger)
    changes = find_criteria_changes(study, read_criteria(ledger))
    snapshots = read_snapshots(ledger)
    floors = _noise_floors(readings, read_noise_floors(ledger), list(visits.values()))
    ordered = study.ordered_factor is not None and len(readings.value) > 0
    return Evidence(
        readings=readings,
        releases=ReleaseSearches(study, readings, floors) if ordered else None,
        visits=list(visits.values()),
        visit_order=order,
        facts=facts,
        contexts=_contexts(
            study, ledger, columns, stray, visits, facts, changes, uncomputed, snapshots
        ),
        noise_floors=floors,
        looks=plan_looks(max(limits.values())) if limits else None,
        looks_taken=read_looks(ledger),
        kinds=read_kinds(ledger),
        absences=read_absences(ledger),
        planned_rounds=read_planned_rounds(ledger) if study.head.schedule == "rounds" else {},
        progress=read_progress(study, ledger),
        corrected=read_corrected(ledger),
        set_aside=tuple(v for v in visits.values() if v.state != "active"),
        notes=tuple(note for _, note in read_notes(ledger)),
        criteria_changes=changes,
        study_changes=find_study_changes(study, snapshots),
        left_out=int(np.sum(~known)),
        excluded=columns.excluded,
    )


def _contexts(
    study: Study,
    ledger: Ledger,
    columns: ReadingColumns,
    stray: np.ndarray,
    visits: dict[int, VisitRow],
    facts: dict[int, list[dict[str, Any]]],
    changes: tuple[CriteriaChange, ...],
    uncomputed: Mapping[str, Uncomputed],
    snapshots: Sequence[Snapshot],
) -> dict[str, Context]:
    """What is known of every bench besides its readings."""
    losses: dict[str, dict[tuple[str, str], dict[str, int]]] = {}
    for (bench, workload, configuration, how), count in read_lost(ledger).items():
        of_bench = losses.setdefault(bench, {})
        of_bench.setdefault((workload, configuration), {})[how] = count
    strays, by_place = _strays(study, columns, stray), changes_by_place(changes)
    sampled = read_conditions(ledger, _MOST_CONDITIONS)
    definitions = find_definition_changes(study, snapshots)
    statistics = _statistics(study, ledger) if columns.states_statistics else {}
    return {
        bench: Context(
            circumstances=_with_statistics(
                find_circumstances(
                    {k: v for k, v in visits.items() if v.bench == bench}, facts, sampled
                ),
                statistics.get(bench, {}),
            ),
            conditions=find_conditions(study, bench, columns.visits, sampled),
            losses=losses.get(bench, {}),
            strays=strays,
            criteria_changes=by_place,
            busy=find_busy(visits, bench, sampled),
            unproven=find_unproven(study, (v for v in visits.values() if v.bench == bench)),
            definition_changes=definitions,
            uncomputed=uncomputed.get(bench, {}),
        )
        for bench in study.benches
    }


def _statistics(
    study: Study, ledger: Ledger
) -> dict[str, dict[tuple[str, str, str], frozenset[str]]]:
    """What readings are of several values: as they state it, else as the study file has it."""
    declared = {(workload, name): m.statistic for workload, name, m in study.metrics()}
    return {
        bench: {
            place: frozenset(text or declared.get(place[1:], "single") for text in texts)
            for place, texts in places.items()
        }
        for bench, places in read_statistics(ledger).items()
    }


def _in_order_of_time(visits: dict[int, VisitRow]) -> dict[int, int]:
    """For the key of each visit its number in time; merged ledgers are not in this order.

    Visits of unknown time come last, in the order in which they were recorded. What people
    call by one name is one visit, in whatever ledger each part of it was.
    """
    ordered = sorted(visits, key=lambda k: (not visits[k].started_at, visits[k].place, k))
    places: dict[int, int] = {}
    named: dict[tuple[str, str, str], int] = {}
    for place, key in enumerate(ordered):
        visit = visits[key]
        name = (visit.bench, visit.configuration, visit.name or "")
        places[key] = named.setdefault(name, place) if visit.name else place
    return places


def _with_statistics(
    circumstances: dict[str, Circumstances], stated: Mapping[tuple[str, str, str], frozenset[str]]
) -> dict[str, Circumstances]:
    """The circumstances with what readings themselves state to be of several values."""
    return {
        name: replace(
            known,
            statistics={
                **known.statistics,
                **{(w, m): texts for (c, w, m), texts in stated.items() if c == name},
            },
        )
        for name, known in circumstances.items()
    }


def _readings(
    study: Study, columns: ReadingColumns, order: dict[int, int]
) -> tuple[Readings, np.ndarray, np.ndarray]:
    """The readings that the study knows, which of all rows these are, and which are strays."""
    series = study_series(study)
    names = tuple(configuration.name for configuration in study.configurations)
    codes = {(s.workload, s.metric, s.unit): code for code, s in enumerate(series)}
    series_of = _look_up(
        {key: codes.get(metric, -1) for key, metric in columns.metrics.items()}, columns.metric
    )
    visits = columns.visits.items()
    places = {key: _place(names, v.configuration) for key, v in visits}
    rounds = find_rounds(columns.visits, names)
    configuration_of = _look_up(places, columns.visit)
    benches = {key: _place(study.benches, v.bench) for key, v in visits}
    bench_of = _look_up(benches, columns.visit)
    placed = (configuration_of >= 0) & (bench_of >= 0)
    known = (series_of >= 0) & placed
    visit_of = _look_up(order, columns.visit)
    # Runs in the order of time: visits do not overlap, and count their runs.
    width = int(columns.position.max(initial=0)) + 1
    readings = Readings(
        benches=study.benches,
        series=series,
        configurations=names,
        series_of=series_of,
        bench_of=bench_of,
        configuration_of=configuration_of,
        round_of=_look_up(rounds, columns.visit),
        visit_of=visit_of,
        run_of=visit_of * width + columns.position,
        value=columns.value,
        samples=columns.samples,
        width=np.where(columns.settled & ~_counts_ranges(study, series_of), 0.0, columns.width),
        bound=columns.bound,
        time=_times(columns),
    )
    unknown = np.isin(columns.visit, [key for key, visit in visits if not visit.known])
    arms = frozenset(np.unique(readings.arm_of[unknown & known]).tolist())
    readings = replace(readings, unknown_arms=arms)
    return readings if known.all() else readings.select(known), known, placed & ~known


def _counts_ranges(study: Study, series_of: np.ndarray) -> np.ndarray:
    """Whether the ranges of settled readings count, by reading, shape (n,)."""
    counts = {(w, n) for w, n, m in study.read_metrics() if m.range_counts}
    of_series = [(s.workload, s.metric) in counts for s in study_series(study)]
    found: np.ndarray = np.array([*of_series, False])[series_of]
    return found


def _with_derived(study: Study, readings: Readings) -> tuple[Readings, dict[str, Uncomputed]]:
    """The readings with those of derived metrics, and by bench what could not be computed."""
    if not study.formulas:
        return readings, {}
    places = {(s.workload, s.metric): n for n, s in enumerate(readings.series)}
    formulas = {places[place]: formula for place, formula in study.formulas.items()}
    names = {t.name for f in formulas.values() for t in walk(f.term) if isinstance(t, Declared)}
    amounts = {
        name: np.array(
            [
                [study.quantity(name, bench, c) for c in readings.configurations]
                for bench in readings.benches
            ],
            dtype=np.float64,
        )
        for name in names
    }
    found, losses = add_derived(readings, formulas, amounts)
    uncomputed: dict[str, Uncomputed] = {}
    for loss in losses:
        series = readings.series[loss.series]
        key = (readings.configurations[loss.configuration], series.workload, series.metric)
        of_bench = uncomputed.setdefault(readings.benches[loss.bench], {})
        of_bench.setdefault(key, []).append((loss.reason, loss.count))
    return found, uncomputed


def _times(columns: ReadingColumns) -> np.ndarray:
    """When the visit of every reading began, in days since 1970; NaN where unknown."""
    seconds = {
        key: round(datetime.fromisoformat(visit.started_at).timestamp() * 1000)
        for key, visit in columns.visits.items()
        if visit.started_at
    }
    days: np.ndarray = _look_up(seconds, columns.visit) / 86_400_000
    known = np.isin(columns.visit, list(seconds))
    return np.where(known, days, np.nan)


def _place(names: tuple[str, ...], name: str) -> int:
    """The place of a name, −1 if it is not among them."""
    return names.index(name) if name in names else -1


def _look_up(table: dict[int, int], keys: np.ndarray) -> np.ndarray:
    """The value of every key, shape (n,)."""
    size = max(max(table, default=0), int(keys.max(initial=0))) + 1
    values = np.zeros(size, dtype=np.int64)
    for key, value in table.items():
        values[key] = value
    found: np.ndarray = values[keys]
    return found


def _strays(
    study: Study, columns: ReadingColumns, stray: np.ndarray
) -> dict[tuple[str, str], tuple[int, str]]:
    """Readings of metrics of the study in another unit."""
    declared = {(workload, name): m.unit for workload, name, m in study.metrics()}
    keys, counts = np.unique(columns.metric[stray], return_counts=True)
    found = {}
    for key, count in zip(keys.tolist(), counts.tolist(), strict=True):
        workload, name, unit = columns.metrics[key]
        if declared.get((workload, name), unit) != unit:
            found[workload, name] = (count, unit)
    return found


def _noise_floors(
    readings: Readings, recorded: Iterable[NoiseFloorRecord], visits: list[VisitRow]
) -> dict[tuple[str, Series], NoiseFloor]:
    """The imported noise floors; of several for one series the latest counts."""
    last: dict[str, str] = {}
    for visit in visits:
        last[visit.bench] = max(visit.started_at, last.get(visit.bench, ""))
    series = {(s.workload, s.metric, s.unit): s for s in readings.series}
    return {
        (record.bench, series[key]): _noise_floor_of(record, last.get(record.bench, ""))
        for record in recorded
        if (key := (record.workload, record.metric, record.unit)) in series
    }


def _noise_floor_of(record: NoiseFloorRecord, last: str) -> NoiseFloor:
    age = math.nan
    if last and record.measured_at:
        gap = datetime.fromisoformat(last) - datetime.fromisoformat(record.measured_at)
        age = max(0.0, gap.total_seconds() / 86400)
    return NoiseFloor(
        scale="ratio" if record.scale == "ratio" else "difference",
        variance=record.variance,
        degrees=record.degrees,
        runs=record.runs,
        run_variance=math.nan if record.run_variance is None else record.run_variance,
        run_degrees=record.run_degrees,
        source=record.source,
        age=age,
    )
