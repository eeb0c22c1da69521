"""Evidence: the contents of a ledger for a study, in the terms of the analysis."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from ferocal.analysis.caveats.circumstances import Circumstances, Conditions, Values
from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.data.readings import NO_ROUND, Readings, Series
from ferocal.analysis.inference.looks import LookPlan, plan_looks
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.answers.criteria import CriteriaChange, changes_by_place, find_criteria_changes
from ferocal.ledger.reading.columns import ReadingColumns, read_columns
from ferocal.ledger.reading.noise_floors import read_noise_floors
from ferocal.ledger.reading.runs import read_lost
from ferocal.ledger.reading.sessions import read_criteria, read_last_looks, read_planned_rounds
from ferocal.ledger.reading.visits import VisitRow, read_conditions, recorded_facts
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.terms.conditions import BUSY_SHARE_OF_OTHERS

# Conditions of so many runs are looked at; of more, every n-th.
_MOST_CONDITIONS = 2000


@dataclass(frozen=True)
class Evidence:
    """The contents of a ledger for a study.

    ``visits`` are in the order in which they were made, ``facts`` by the key that they name.
    ``contexts`` are by bench, without what depends on the baseline of a comparison, and
    ``noise_floors`` by bench and series. ``left_out`` counts readings that the study file no
    longer knows, ``excluded`` the runs that are marked as not to be used.
    """

    readings: Readings
    visits: list[VisitRow]
    facts: dict[int, list[dict[str, Any]]]
    contexts: dict[str, Context]
    noise_floors: dict[tuple[str, Series], NoiseFloor]
    looks: LookPlan | None
    planned_rounds: dict[str, int]
    criteria_changes: tuple[CriteriaChange, ...]
    left_out: int
    excluded: int


def gather(study: Study, ledger: Ledger) -> Evidence:
    """The evidence in the ledger, in the terms of the study file."""
    columns = read_columns(ledger)
    order = _in_order_of_time(columns.visits)
    readings, known = _readings(study, columns, order)
    visits, facts = [columns.visits[key] for key in order], recorded_facts(ledger)
    looks = read_last_looks(ledger)
    changes = find_criteria_changes(study, read_criteria(ledger))
    return Evidence(
        readings=readings,
        visits=visits,
        facts=facts,
        contexts=_contexts(study, ledger, columns, known, visits, facts, changes),
        noise_floors=_noise_floors(readings, read_noise_floors(ledger), visits),
        looks=plan_looks(max(looks.values())) if looks else None,
        planned_rounds=read_planned_rounds(ledger) if study.head.schedule == "rounds" else {},
        criteria_changes=changes,
        left_out=int(np.sum(~known)),
        excluded=columns.excluded,
    )


def _contexts(
    study: Study,
    ledger: Ledger,
    columns: ReadingColumns,
    known: np.ndarray,
    visits: list[VisitRow],
    facts: dict[int, list[dict[str, Any]]],
    changes: tuple[CriteriaChange, ...],
) -> dict[str, Context]:
    """What is known of every bench besides its readings."""
    losses: dict[str, dict[tuple[str, str], dict[str, int]]] = {}
    for (bench, workload, configuration, how), count in read_lost(ledger).items():
        of_bench = losses.setdefault(bench, {})
        of_bench.setdefault((workload, configuration), {})[how] = count
    strays, by_place = _strays(study, columns, known), changes_by_place(changes)
    sampled = read_conditions(ledger, _MOST_CONDITIONS)
    return {
        bench: Context(
            circumstances=_circumstances([v for v in visits if v.bench == bench], facts),
            conditions=_conditions(study, bench, columns.visits, sampled),
            losses=losses.get(bench, {}),
            strays=strays,
            criteria_changes=by_place,
        )
        for bench in study.benches
    }


def _in_order_of_time(visits: dict[int, VisitRow]) -> dict[int, int]:
    """For the key of each visit its place in time; merged ledgers are not in this order."""
    ordered = sorted(visits, key=lambda key: (visits[key].started_at, key))
    return {key: place for place, key in enumerate(ordered)}


def study_series(study: Study) -> tuple[Series, ...]:
    """The metrics of a study as series of the analysis."""
    return tuple(
        Series(
            workload,
            name,
            metric.unit,
            metric.better,
            metric.share_margin or study.head.margin,
            metric.primary,
            metric.unit_margin,
            metric.step,
            metric.plausible,
        )
        for workload, name, metric in study.metrics()
    )


def _readings(
    study: Study, columns: ReadingColumns, order: dict[int, int]
) -> tuple[Readings, np.ndarray]:
    """The readings that the study knows, and which of all rows these are."""
    series = study_series(study)
    names = tuple(configuration.name for configuration in study.configurations)
    codes = {(s.workload, s.metric, s.unit): code for code, s in enumerate(series)}
    series_of = _look_up(
        {key: codes.get(metric, -1) for key, metric in columns.metrics.items()}, columns.metric
    )
    visits = columns.visits.items()
    places = {key: _place(names, v.configuration) for key, v in visits}
    rounds = {key: NO_ROUND if v.round is None else v.round for key, v in visits}
    configuration_of = _look_up(places, columns.visit)
    benches = {key: _place(study.benches, v.bench) for key, v in visits}
    bench_of = _look_up(benches, columns.visit)
    known = (series_of >= 0) & (configuration_of >= 0) & (bench_of >= 0)
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
        width=columns.width,
        visits_known=all(visit.known for _, visit in visits),
    )
    return readings if known.all() else readings.select(known), known


def _place(names: tuple[str, ...], name: str) -> int:
    """The place of a name, −1 if it is not among them."""
    return names.index(name) if name in names else -1


def _look_up(table: dict[int, int], keys: np.ndarray) -> np.ndarray:
    """The value of every key, shape (n,)."""
    values = np.zeros(max(table, default=0) + 1, dtype=np.int64)
    for key, value in table.items():
        values[key] = value
    found: np.ndarray = values[keys]
    return found


def _strays(
    study: Study, columns: ReadingColumns, known: np.ndarray
) -> dict[tuple[str, str], tuple[int, str]]:
    """Readings of metrics of the study in another unit."""
    declared = {(workload, name): m.unit for workload, name, m in study.metrics()}
    keys, counts = np.unique(columns.metric[~known], return_counts=True)
    found = {}
    for key, count in zip(keys.tolist(), counts.tolist(), strict=True):
        workload, name, unit = columns.metrics[key]
        if declared.get((workload, name), unit) != unit:
            found[workload, name] = (count, unit)
    return found


def _noise_floors(
    readings: Readings, recorded: Iterable[NoiseFloorRecord], visits: list[VisitRow]
) -> dict[tuple[str, Series], NoiseFloor]:
    """The noise floors that were brought in; of several for one series the latest counts."""
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
    age = 0.0
    if last:
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


def _circumstances(
    visits: Iterable[VisitRow], facts: dict[int, list[dict[str, Any]]]
) -> dict[str, Circumstances]:
    """What was seen of the bench and the workloads, by configuration."""
    seen: dict[tuple[str, str], dict[str, set[str]]] = {}
    configurations: dict[str, None] = {}
    for visit in visits:
        if visit.state != "active":
            continue
        name = visit.configuration
        configurations[name] = None
        for fact in facts[visit.facts_id]:
            place = seen.setdefault((name, fact["kind"]), {})
            place.setdefault(fact["name"], set()).add(fact["value"])
        for workload, subject in visit.subjects.items():
            for kind, aspect, value in _flatten(subject):
                place = seen.setdefault((name, f"{kind} {workload}"), {})
                place.setdefault(aspect, set()).add(value)

    def values(name: str, kind: str) -> Values:
        return {key: frozenset(found) for key, found in seen.get((name, kind), {}).items()}

    def by_workload(name: str, kind: str) -> dict[str, Values]:
        kinds = [k.split(" ", 1) for n, k in seen if n == name]
        return {parts[1]: values(name, " ".join(parts)) for parts in kinds if parts[0] == kind}

    return {
        name: Circumstances(
            values(name, "resource"),
            values(name, "software"),
            by_workload(name, "subject"),
            {
                (workload, metric): statistic
                for workload, metrics in by_workload(name, "statistic").items()
                for metric, statistic in metrics.items()
            },
        )
        for name in configurations
    }


def _flatten(subject: dict[str, Any]) -> list[tuple[str, str, str]]:
    """What is known of a workload: kind, name and value."""
    words = " ".join(subject["arguments"])
    found = [("subject", "arguments", words)] if words else []
    found += [("subject", f"file {path}", digest) for path, digest in subject["files"].items()]
    if subject["version"] is not None:
        found.append(("subject", "version", subject["version"]))
    statistics = subject.get("statistics", {})
    return found + [("statistic", metric, value) for metric, value in statistics.items()]


def _conditions(
    study: Study,
    bench: str,
    visits: dict[int, VisitRow],
    sampled: list[tuple[int, dict[str, Any]]],
) -> Conditions:
    """The conditions before the runs on a bench, visit by visit."""
    names = tuple(configuration.name for configuration in study.configurations)
    wanted = {
        key: visit
        for key, visit in visits.items()
        if visit.state == "active" and visit.bench == bench and visit.configuration in names
    }
    seen: dict[str, dict[int, list[Any]]] = {}
    for key, conditions in sampled:
        if key in wanted:
            share = conditions.get(BUSY_SHARE_OF_OTHERS)
            for name, value in {**conditions["before"], BUSY_SHARE_OF_OTHERS: share}.items():
                if value is not None:
                    seen.setdefault(name, {}).setdefault(key, []).append(value)
    rows = list(wanted)
    numeric = {
        name: by_visit
        for name, by_visit in seen.items()
        if all(_is_number(value) for values in by_visit.values() for value in values)
    }
    return Conditions(
        configurations=names,
        configuration_of=np.array([names.index(wanted[k].configuration) for k in rows], np.int64),
        round_of=np.array(
            [NO_ROUND if wanted[k].round is None else wanted[k].round for k in rows], np.int64
        ),
        numbers={
            name: np.array([np.mean(by_visit[k]) if k in by_visit else np.nan for k in rows])
            for name, by_visit in numeric.items()
        },
        words={
            name: [frozenset(map(str, by_visit.get(k, ()))) for k in rows]
            for name, by_visit in seen.items()
            if name not in numeric
        },
    )


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)
