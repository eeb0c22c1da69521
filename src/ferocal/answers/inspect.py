"""Inspection: the study as it is understood."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ferocal.bench.facts import Fact, declared_facts, read_facts
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.additions import BenchLook, read_looks_at_benches
from ferocal.ledger.reading.integrity import Integrity, read_integrity
from ferocal.ledger.reading.kept import Holdings, read_holdings
from ferocal.plan.order import by_round, count_runs, plan_study
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.masking import Mask
from ferocal.study.model import Level, Workload
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class ConfigurationView:
    """A configuration: its levels, what brings it besides commands, and its checks.

    ``checks`` are the levels that ask and what they expect.
    """

    name: str
    levels: Mapping[str, str]
    environment: Mapping[str, str]
    prefix: tuple[str, ...]
    checks: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class LevelView:
    """A level of a factor: what brings the bench there, and what proves that it is active."""

    factor: str
    level: str
    brings: tuple[str, ...]
    checks: tuple[str, ...]


@dataclass(frozen=True)
class Inspection:
    """A study as it is understood.

    ``benches`` have the facts that the study file declares, ``machine`` those that can be read
    here, if this machine may be one of the benches; ``hosts`` are those of benches that are
    reached over a connection. ``looks`` are what was seen of the noise of
    benches. ``rounds`` is the order of the visits, ``runs`` and ``warmups`` are counts on one
    bench. ``workloads`` are as in the study file; ``mask`` is for what of them is private.
    """

    question: str
    margin: float
    baseline: str
    schedule: str
    factors: tuple[str, ...]
    benches: Mapping[str, tuple[Fact, ...]]
    machine: tuple[Fact, ...]
    hosts: Mapping[str, str]
    configurations: tuple[ConfigurationView, ...]
    levels: tuple[LevelView, ...]
    workloads: Mapping[str, Workload]
    impossible: tuple[str, ...]
    rounds: tuple[tuple[str, ...], ...]
    runs: int
    warmups: int
    looks: tuple[BenchLook, ...]
    mask: Mask


def inspect_study(study: Study) -> Inspection:
    """A study as it is understood; nothing of it is run."""
    head, visits = study.head, plan_study(study)
    runs, warmups = count_runs(study, visits)
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
        machine=tuple(read_facts()) if _may_be_here(study) else (),
        hosts={n: b.host for n, b in study.file.bench.items() if b.host is not None},
        configurations=tuple(_view(c, study.mask) for c in study.configurations),
        levels=tuple(
            _level(factor, name, level, study.mask)
            for factor, table in study.file.factor.items()
            for name, level in table.level.items()
        ),
        workloads=study.workloads,
        impossible=study.design.impossible,
        rounds=tuple(tuple(names) for names in by_round(visits).values()),
        runs=runs,
        warmups=warmups,
        looks=_looks(study),
        mask=study.mask,
    )


def _may_be_here(study: Study) -> bool:
    return any(study.on(bench).on_this_machine for bench in study.benches)


def check_integrity(directory: Path) -> Integrity:
    """Whether the ledger of a study is as it was written.

    Raises
    ------
    LedgerError
        When there is none, or it cannot be read at all.
    """
    with read_ledger(directory, checked=False) as ledger:
        return read_integrity(ledger)


def list_holdings(directory: Path) -> Holdings:
    """What the ledger of a study holds of what kind.

    Raises
    ------
    LedgerError
        When there is none, or it cannot be read.
    """
    with read_ledger(directory) as ledger:
        return read_holdings(ledger)


def _looks(study: Study) -> tuple[BenchLook, ...]:
    """The latest look at the noise of every bench."""
    if not (study.directory / LEDGER_FILE).exists():
        return ()
    with read_ledger(study.directory) as ledger:
        return tuple(read_looks_at_benches(ledger))


def _view(configuration: Configuration, mask: Mask) -> ConfigurationView:
    return ConfigurationView(
        name=configuration.name,
        levels=configuration.levels,
        environment=mask.value(configuration.environment),
        prefix=tuple(map(mask.text, configuration.prefix)),
        checks=tuple((level, mask.text(check.described)) for level, check in configuration.verify),
    )


def _level(factor: str, name: str, level: Level, mask: Mask) -> LevelView:
    brings = [f"{variable}={value}" for variable, value in level.environment.items()]
    brings += [" ".join(level.prefix)] if level.prefix else []
    brings += [" ".join(step.words) for step in level.switch]
    brings += [f"operator: {level.hold}"] if level.hold else []
    brings += [f"note: {level.note}"] if level.note else []
    checks = (check.described for check in level.verify)
    return LevelView(factor, name, tuple(map(mask.text, brings)), tuple(map(mask.text, checks)))
