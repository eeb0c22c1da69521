"""What was seen around the readings: facts, subjects, conditions, who was busy, what was proven."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from ferocal.analysis.caveats.circumstances import BusyBench, Circumstances, Conditions, SeenValues
from ferocal.analysis.caveats.kinds import Context
from ferocal.analysis.data.readings import NO_ROUND
from ferocal.ledger.reading.visits import VisitRow
from ferocal.study.load import Study
from ferocal.terms.conditions import (
    BUSIEST_OTHERS,
    BUSY_LIMIT,
    BUSY_RESOLUTION,
    BUSY_SHARE_OF_OTHERS,
    PROCESSORS_ALLOWED,
    STOLEN_SHARE,
)
from ferocal.terms.frozen import dataclass

Sampled = Iterable[tuple[int, dict[str, Any]]]


def find_circumstances(
    visits: Mapping[int, VisitRow], facts: dict[int, list[dict[str, Any]]], sampled: Sampled
) -> dict[str, Circumstances]:
    """What was seen of the bench and the workloads, by configuration."""
    seen: dict[tuple[str, str], dict[str, set[str]]] = {}
    configurations: dict[str, None] = {}
    for visit in visits.values():
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

    for key, workload, processors in _processors(sampled):
        if key in visits and visits[key].state == "active":
            place = seen.setdefault((visits[key].configuration, "resource"), {})
            place.setdefault(f"processors allowed to {workload}", set()).add(str(processors))

    def values(name: str, kind: str) -> SeenValues:
        return {key: frozenset(found) for key, found in seen.get((name, kind), {}).items()}

    def by_workload(name: str, kind: str) -> dict[str, SeenValues]:
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
    words = " ".join(subject.get("arguments", ()))
    found = [("subject", "arguments", words)] if words else []
    files = subject.get("files", {})
    found += [("subject", f"file {path}", digest) for path, digest in files.items()]
    if subject.get("version") is not None:
        found.append(("subject", "version", subject["version"]))
    statistics = subject.get("statistics", {})
    return found + [("statistic", metric, value) for metric, value in statistics.items()]


def find_conditions(
    study: Study,
    bench: str,
    visits: dict[int, VisitRow],
    sampled: Sampled,
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
            during = {n: conditions.get(n) for n in (BUSY_SHARE_OF_OTHERS, STOLEN_SHARE)}
            for name, value in {**conditions["before"], **during}.items():
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


def _processors(sampled: Sampled) -> Iterable[tuple[int, str, int]]:
    """Visit, workload and number of processors of the runs of which that was seen."""
    for key, conditions in sampled:
        processors = conditions.get(PROCESSORS_ALLOWED)
        if processors is not None:
            yield key, conditions["workload"], processors


def find_busy(visits: Mapping[int, VisitRow], bench: str, sampled: Sampled) -> BusyBench:
    """In how many runs on a bench others were surely busy, or the host withheld processors."""
    runs = busy = stolen = 0
    names: Counter[str] = Counter()
    for key, conditions in sampled:
        share = conditions.get(BUSY_SHARE_OF_OTHERS)
        if key not in visits or visits[key].bench != bench or share is None:
            continue
        runs += 1
        limit = BUSY_LIMIT + (conditions.get(BUSY_RESOLUTION) or 0.0)
        if share > limit:
            busy += 1
            names.update(conditions.get(BUSIEST_OTHERS) or ())
        stolen += (conditions.get(STOLEN_SHARE) or 0.0) > limit
    return BusyBench(runs, busy, stolen, tuple(name for name, _ in names.most_common(3)))


def find_unproven(study: Study, visits: Iterable[VisitRow]) -> dict[str, tuple[str, ...]]:
    """By configuration, the levels of which no check held in every visit ("driver=r64")."""
    proven: dict[str, list[set[str]]] = {}
    for visit in visits:
        if visit.state == "active":
            held = {check["level"] for check in visit.checks if check["holds"]}
            proven.setdefault(visit.configuration, []).append(held)
    return {
        c.name: tuple(
            level
            for level in (f"{factor}={name}" for factor, name in c.levels.items())
            if any(level not in held for held in proven[c.name])
        )
        for c in study.configurations
        if c.name in proven
    }


@dataclass(frozen=True)
class MixedStatistic:
    """A metric of which the best of several values stands beside another statistic."""

    bench: str
    workload: str
    metric: str
    configurations: Mapping[str, frozenset[str]]


def find_mixed_statistics(contexts: Mapping[str, Context]) -> tuple[MixedStatistic, ...]:
    """Metrics that are the best of several values with some configurations only."""
    found = []
    for bench, context in contexts.items():
        places = {place for side in context.circumstances.values() for place in side.statistics}
        for workload, metric in sorted(places):
            known = {
                name: side.statistics[workload, metric]
                for name, side in context.circumstances.items()
                if (workload, metric) in side.statistics
            }
            if len(set(known.values())) > 1 and any("best" in texts for texts in known.values()):
                found.append(MixedStatistic(bench, workload, metric, known))
    return tuple(found)
