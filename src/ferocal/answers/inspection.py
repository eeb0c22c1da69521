"""Inspection: the study as it is understood."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ferocal.bench.facts import Fact, declared_facts, read_facts
from ferocal.plan.order import by_round, plan_study
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.model import Level, Workload


@dataclass(frozen=True)
class ConfigurationView:
    """A configuration: its levels, what brings it besides commands, and its checks.

    ``brings`` are the variables, prefix and steps in words, ``checks`` the levels that ask and
    what they expect.
    """

    name: str
    levels: Mapping[str, str]
    environment: Mapping[str, str]
    prefix: tuple[str, ...]
    brings: tuple[str, ...]
    checks: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Inspection:
    """A study as it is understood.

    ``benches`` have the facts that the study file declares, ``machine`` those that can be read
    here. ``rounds`` is the order of the visits, ``runs`` and ``warmups`` are counts on one bench.
    """

    question: str
    margin: float
    baseline: str
    schedule: str
    factors: tuple[str, ...]
    benches: Mapping[str, tuple[Fact, ...]]
    machine: tuple[Fact, ...]
    configurations: tuple[ConfigurationView, ...]
    workloads: Mapping[str, Workload]
    impossible: tuple[str, ...]
    rounds: tuple[tuple[str, ...], ...]
    runs: int
    warmups: int


def inspect_study(study: Study) -> Inspection:
    """A study as it is understood; nothing of it is run."""
    head, visits = study.head, plan_study(study)
    return Inspection(
        question=head.question,
        margin=head.margin,
        baseline=study.baseline,
        schedule=head.schedule,
        factors=tuple(study.file.factor),
        benches={
            bench: tuple(declared_facts(study.on(bench).bench_table.facts, "study file"))
            for bench in study.benches
        },
        machine=tuple(read_facts()),
        configurations=tuple(_view(study, c) for c in study.configurations),
        workloads=study.workloads,
        impossible=study.design.impossible,
        rounds=tuple(tuple(names) for names in by_round(visits).values()),
        runs=len(visits) * head.runs * len(study.workloads),
        warmups=len(visits) * sum(w.warmups for w in study.workloads.values()),
    )


def _view(study: Study, configuration: Configuration) -> ConfigurationView:
    brings = [f"{name}={value}" for name, value in configuration.environment.items()]
    brings += [" ".join(configuration.prefix)] if configuration.prefix else []
    for factor, level in configuration.levels.items():
        brings += _steps(study.level(factor, level))
    return ConfigurationView(
        name=configuration.name,
        levels=configuration.levels,
        environment=configuration.environment,
        prefix=configuration.prefix,
        brings=tuple(brings),
        checks=tuple((level, check.expected) for level, check in configuration.verify),
    )


def _steps(level: Level) -> list[str]:
    """What brings a level besides environment and prefix, in words."""
    steps = [f"switch: {' '.join(step.words)}" for step in level.switch]
    steps += [f"operator: {level.hold}"] if level.hold else []
    return steps + ([f"note: {level.note}"] if level.note else [])
