"""Study and ledger brought together: what the analysis works on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ferocal.analysis.comparability import Circumstances, Values, find_differences
from ferocal.analysis.effects import Effect, estimate_effects
from ferocal.analysis.looks import LookPlan, plan_looks
from ferocal.analysis.readings import Readings, Series
from ferocal.analysis.verdicts import CONFIDENCE
from ferocal.errors import UsageError
from ferocal.ledger.extract import Columns, VisitRow, read_columns, read_facts, read_looks
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.store import Ledger
from ferocal.study.configurations import closest
from ferocal.study.load import Study, load_study


@dataclass(frozen=True)
class Evidence:
    """What a ledger holds for a study.

    ``visits`` are in the order in which they were made, ``facts`` by the key that they name.
    ``left_out`` counts readings that the study file no longer knows, ``excluded`` the
    runs that are marked as not to be used.
    """

    readings: Readings
    visits: list[VisitRow]
    facts: dict[int, list[dict[str, Any]]]
    circumstances: dict[str, Circumstances]
    looks: LookPlan | None
    left_out: int
    excluded: int


def gather(study: Study, ledger: Ledger) -> Evidence:
    """The evidence in the ledger, in the terms of the study file."""
    columns = read_columns(ledger)
    series = tuple(
        Series(workload, name, m.unit, m.better, m.margin or study.head.margin, m.primary)
        for workload, name, m in study.metrics()
    )
    names = tuple(configuration.name for configuration in study.configurations)
    codes, values = _codes(columns, series, names)
    known = np.all(codes >= 0, axis=1)
    codes, values = codes[known], values[known]
    readings = Readings(
        bench=study.bench,
        series=series,
        configurations=names,
        series_of=codes[:, 0],
        configuration_of=codes[:, 1],
        round_of=codes[:, 2],
        run_of=codes[:, 3],
        value=values,
    )
    visits, facts = list(columns.visits.values()), read_facts(ledger)
    looks = read_looks(ledger)
    return Evidence(
        readings=readings,
        visits=visits,
        facts=facts,
        circumstances=_circumstances(visits, facts),
        looks=plan_looks(looks[-1][1]) if looks else None,
        left_out=int(np.sum(~known)),
        excluded=columns.excluded,
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
            place = seen.setdefault((name, f"workload {workload}"), {})
            for what, value in _flatten(subject):
                place.setdefault(what, set()).add(value)

    def values(name: str, kind: str) -> Values:
        return {key: frozenset(own) for key, own in seen.get((name, kind), {}).items()}

    workloads = {kind.removeprefix("workload ") for _, kind in seen if kind.startswith("workload ")}
    return {
        name: Circumstances(
            values(name, "resource"),
            values(name, "software"),
            {w: values(name, f"workload {w}") for w in workloads},
        )
        for name in configurations
    }


def _flatten(subject: dict[str, Any]) -> list[tuple[str, str]]:
    """What is known of a workload as names and values."""
    found = [("arguments", " ".join(subject["arguments"]))]
    found += [(f"file {path}", digest) for path, digest in subject["files"].items()]
    return found + ([("version", subject["version"])] if subject["version"] is not None else [])


def _codes(
    columns: Columns, series: tuple[Series, ...], names: tuple[str, ...]
) -> tuple[np.ndarray, np.ndarray]:
    """Per reading: series, configuration, round and run, with -1 for what is unknown."""
    series_code = {(s.workload, s.metric, s.unit): code for code, s in enumerate(series)}
    by_metric = {key: series_code.get(metric, -1) for key, metric in columns.metrics.items()}
    by_visit = {
        key: (
            names.index(visit.configuration) if visit.configuration in names else -1,
            visit.round if visit.round is not None else -1,
        )
        for key, visit in columns.visits.items()
    }
    codes = np.array(
        [(by_metric[m], *by_visit[v], run) for m, v, run, _ in columns.readings], dtype=np.int64
    ).reshape(-1, 4)
    values = np.array([reading[3] for reading in columns.readings], dtype=np.float64)
    return codes, values


@dataclass(frozen=True)
class Comparison:
    """Effects of a study against one of its configurations."""

    study: Study
    baseline: str
    confidence: float
    effects: tuple[Effect, ...]
    evidence: Evidence


def compare(study: Study, evidence: Evidence, *, against: str | None = None) -> Comparison:
    """Every configuration against the study's baseline, or against another one.

    Raises
    ------
    UsageError
        When there is no configuration of the name ``against``.
    """
    base = study.configuration(against or study.baseline)
    differing = {c.name: c.differs_in(base) for c in study.configurations}
    effects = estimate_effects(
        evidence.readings,
        base.name,
        differing=differing,
        looks=evidence.looks,
        interleaved=study.head.schedule == "rounds",
    )
    confidence = evidence.looks.confidence if evidence.looks else CONFIDENCE
    return Comparison(
        study,
        base.name,
        confidence,
        tuple(_with_differences(study, evidence, effect, differing) for effect in effects),
        evidence,
    )


def _with_differences(
    study: Study, evidence: Evidence, effect: Effect, differing: dict[str, tuple[str, ...]]
) -> Effect:
    """The effect with caveats on what else differed between its two sides."""
    explained = {
        fact for f in differing[effect.configuration] for fact in study.file.factor[f].explains
    }
    found = find_differences(
        evidence.circumstances[effect.configuration],
        evidence.circumstances[effect.baseline],
        effect.series.workload,
        explained,
    )
    return replace(effect, caveats=effect.caveats + tuple(found))


def gather_directory(directory: Path) -> tuple[Study, Evidence]:
    """The study in a directory and the valid readings in its ledger."""
    study = load_study(directory)
    with open_ledger(directory) as ledger:
        return study, gather(study, ledger)


def compare_directory(directory: Path, *, against: str | None = None) -> Comparison:
    """The comparison of the study in a directory."""
    study, evidence = gather_directory(directory)
    return compare(study, evidence, against=against)


@dataclass(frozen=True)
class Selection:
    """Which effects are wanted; nothing named means all."""

    configurations: tuple[str, ...] = ()
    workloads: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()

    def apply(self, comparison: Comparison) -> Comparison:
        """The comparison with only the wanted effects.

        They are judged as before: how many comparisons were made does not depend on how
        many are looked at.

        Raises
        ------
        UsageError
            When a name is not known; the closest one is told.
        """
        study = comparison.study
        for name in self.configurations:
            study.configuration(name)
        for name in self.workloads:
            study.workload(name)
        known = [name for _, name, _ in study.metrics()]
        for name in self.metrics:
            if name not in known:
                raise UsageError(f'no metric "{name}" in this study; {closest(name, known)}')
        return replace(comparison, effects=tuple(e for e in comparison.effects if self._wants(e)))

    def _wants(self, effect: Effect) -> bool:
        pairs = (
            (self.configurations, effect.configuration),
            (self.workloads, effect.series.workload),
            (self.metrics, effect.series.metric),
        )
        return all(not wanted or name in wanted for wanted, name in pairs)
