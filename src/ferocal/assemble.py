"""Study and ledger brought together: what the analysis works on."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ferocal.analysis.effects import Effect, estimate_effects
from ferocal.analysis.readings import Readings, Series
from ferocal.ledger.extract import Columns, read_columns
from ferocal.ledger.store import Ledger, open_ledger
from ferocal.study.load import Study, load_study


@dataclass(frozen=True)
class Evidence:
    """Valid readings of a study; ``left_out`` counts those that its file no longer knows."""

    readings: Readings
    left_out: int


def gather(study: Study, ledger: Ledger) -> Evidence:
    """The valid readings of the ledger, in the terms of the study file."""
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
    return Evidence(readings, int(np.sum(~known)))


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
    effects: tuple[Effect, ...]
    readings: Readings
    left_out: int


def compare(study: Study, evidence: Evidence) -> Comparison:
    """Every configuration against the study's baseline."""
    base = study.configuration(study.baseline)
    differing = {c.name: c.differs_in(base) for c in study.configurations}
    effects = estimate_effects(evidence.readings, base.name, differing=differing)
    return Comparison(study, base.name, effects, evidence.readings, evidence.left_out)


def gather_directory(directory: Path) -> tuple[Study, Evidence]:
    """The study in a directory and the valid readings in its ledger."""
    study = load_study(directory)
    with open_ledger(directory) as ledger:
        return study, gather(study, ledger)


def compare_directory(directory: Path) -> Comparison:
    """The comparison of the study in a directory."""
    return compare(*gather_directory(directory))
