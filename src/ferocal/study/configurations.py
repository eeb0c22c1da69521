"""Configurations: levels of factors composed, in the order of the factors."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from ferocal.errors import Problem
from ferocal.study.base import CompositionError
from ferocal.study.benches import FactValue
from ferocal.study.checks import Check
from ferocal.study.model import Level, StudyFile
from ferocal.terms.dimensions import ONE
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.numbers import grouped

Levels = dict[str, str]
# With more, commands take seconds and no plan is ever carried out.
MOST_CONFIGURATIONS = 1000
CONTROL = "control"
# The key of a rule for what is impossible that names a workload instead of a factor.
WORKLOAD = "workload"


@dataclass(frozen=True)
class Configuration:
    """A named combination of levels, with what they bring composed.

    ``verify`` holds pairs of the level that asks ("driver=r64") and its check; ``facts``
    are those that its levels declare. ``quantities`` are what its levels amount to, with units:
    those that they declare by name, and by factor its own.
    """

    name: str
    levels: Levels
    environment: dict[str, str]
    prefix: tuple[str, ...]
    verify: tuple[tuple[str, Check], ...]
    facts: dict[str, FactValue]
    quantities: dict[str, tuple[float, str]]

    def differs_in(self, other: Configuration) -> tuple[str, ...]:
        """Factors whose level is not the same in both."""
        return tuple(f for f in self.levels if self.levels[f] != other.levels.get(f))


@dataclass(frozen=True)
class Design:
    """All configurations of a study, the baseline first, the control arm last.

    ``impossible`` names combinations that the design asks for and that cannot exist,
    ``impossible_workloads`` pairs of configuration and workload that do not go together.
    """

    configurations: tuple[Configuration, ...]
    baseline: str
    impossible: tuple[str, ...]
    impossible_workloads: frozenset[tuple[str, str]] = frozenset()


def compose_design(file: StudyFile) -> Design:
    """The configurations that the file asks for.

    Raises
    ------
    CompositionError
        Unknown or missing factors and levels, or levels that contradict each other.
    """
    combinations = _combinations(file)
    labels = _labels(file, combinations)
    baseline = _baseline_label(file, combinations, labels)
    excluded = [_is_impossible(file, levels) for levels in combinations]
    problems = _check_names(file, labels)
    if excluded[labels.index(baseline)]:
        problems.append(Problem("configuration.impossible", "must not exclude the baseline"))
    problems += [
        Problem(f"workload.{name}.baseline", f'no configuration "{w.baseline}"; '
                + closest(w.baseline, labels))
        for name, w in file.workload.items()
        if w.baseline and w.baseline not in labels
    ]  # fmt: skip
    composed = []
    for label, levels, skipped in zip(labels, combinations, excluded, strict=True):
        if not skipped:
            composed.append(_compose(file, label, levels, problems))
    if problems:
        raise CompositionError(list(dict.fromkeys(problems)))
    composed.sort(key=lambda configuration: configuration.name != baseline)
    if file.study.control:
        composed.append(replace(composed[0], name=CONTROL))
    impossible = tuple(label for label, skip in zip(labels, excluded, strict=True) if skip)
    return Design(tuple(composed), baseline, impossible, _impossible_workloads(file, composed))


def is_possible(file: StudyFile, levels: Levels) -> bool:
    """Whether a combination of levels can exist and run some workload, as the study file says."""
    return not _is_impossible(file, levels) and any(
        _runs_workload(file, levels, workload) for workload in file.workload
    )


def name_of(study: Design, file: StudyFile, levels: Levels) -> str:
    """The name of a combination: that of the configuration, else what it would be called."""
    for configuration in study.configurations:
        if configuration.levels == levels:
            return configuration.name
    return _join(file, levels)


def _is_impossible(file: StudyFile, levels: Levels) -> bool:
    rules = (rule for rule in file.configuration.impossible if not _names_workload(file, rule))
    return any(rule.items() <= levels.items() for rule in rules)


def _runs_workload(file: StudyFile, levels: Levels, workload: str) -> bool:
    rules = (rule for rule in file.configuration.impossible if _names_workload(file, rule))
    names = (workload, file.workload[workload].sized_workload)
    return not any(
        rule[WORKLOAD] in names
        and {f: v for f, v in rule.items() if f != WORKLOAD}.items() <= levels.items()
        for rule in rules
    )


def _names_workload(file: StudyFile, rule: Mapping[str, str]) -> bool:
    """Whether a rule is on a workload, unless a factor is called so."""
    return WORKLOAD in rule and WORKLOAD not in file.factor


def _impossible_workloads(
    file: StudyFile, configurations: Sequence[Configuration]
) -> frozenset[tuple[str, str]]:
    return frozenset(
        (configuration.name, workload)
        for configuration in configurations
        for workload in file.workload
        if not _runs_workload(file, configuration.levels, workload)
    )


def _check_names(file: StudyFile, labels: Sequence[str]) -> list[Problem]:
    factors = {name: list(factor.level) for name, factor in file.factor.items()}
    problems = [
        problem
        for number, rule in enumerate(file.configuration.impossible)
        for problem in check_levels(
            {f: v for f, v in rule.items() if not (f == WORKLOAD and _names_workload(file, rule))},
            factors,
            f"configuration.impossible.{number}",
            whole=False,
        )
    ]
    problems += [
        Problem(
            f"configuration.impossible.{number}.{WORKLOAD}",
            f'no workload "{rule[WORKLOAD]}"; {closest(rule[WORKLOAD], list(file.workload))}',
        )
        for number, rule in enumerate(file.configuration.impossible)
        if _names_workload(file, rule) and rule[WORKLOAD] not in _workload_names(file)
    ]
    if file.study.control and CONTROL in labels:
        text = f'a configuration is called "{CONTROL}", the name of the control arm; rename it'
        problems.append(Problem("study.control", text))
    return problems


def _workload_names(file: StudyFile) -> set[str]:
    """Names of workloads, and of those that have several sizes."""
    families = {
        entry.sized_workload for entry in file.workload.values() if entry.sized_workload is not None
    }
    return {*file.workload, *families}


def _combinations(file: StudyFile) -> list[Levels]:
    factors = {name: list(factor.level) for name, factor in file.factor.items()}
    wanted = file.configuration
    if wanted.design == "listed":
        problems: list[Problem] = []
        for name, levels in wanted.named.items():
            problems += check_levels(levels, factors, f"configuration.named.{name}")
        if problems:
            raise CompositionError(problems)
        return [{f: levels[f] for f in factors} for levels in wanted.named.values()]
    if wanted.design == "full":
        _check_size(factors)
        return [dict(zip(factors, c, strict=True)) for c in itertools.product(*factors.values())]
    base = _baseline_levels(file)
    changed = [{**base, f: level} for f, levels in factors.items() for level in levels]
    distinct = list({tuple(levels.values()): levels for levels in changed}.values())
    # In the order that they have among all combinations.
    return sorted(distinct, key=lambda c: [levels.index(c[f]) for f, levels in factors.items()])


def _check_size(factors: Mapping[str, list[str]]) -> None:
    """Refuse more combinations than can be measured, before they are made."""
    counts = [len(levels) for levels in factors.values()]
    if math.prod(counts) <= MOST_CONFIGURATIONS:
        return
    shown = " × ".join(map(str, counts))
    single = 1 + sum(count - 1 for count in counts)
    text = (
        f"all combinations of levels are {shown} = {grouped(math.prod(counts))}, more than "
        f'{grouped(MOST_CONFIGURATIONS)}; change one factor at a time with design = "one-factor" '
        f'({grouped(single)}), or name those that matter with design = "listed"'
    )
    raise CompositionError([Problem("configuration.design", text)])


def check_levels(
    levels: Mapping[str, str], factors: Mapping[str, list[str]], key: str, *, whole: bool = True
) -> list[Problem]:
    """Mistakes in a table that gives factors one of their levels, all of them if ``whole``."""
    problems = []
    for factor, level in levels.items():
        if factor not in factors:
            hint = closest(factor, list(factors))
            problems.append(Problem(f"{key}.{factor}", f'no factor "{factor}"; {hint}'))
        elif level not in factors[factor]:
            hint = closest(level, factors[factor])
            problems.append(Problem(f"{key}.{factor}", f'{factor} has no level "{level}"; {hint}'))
    missing = [factor for factor in factors if whole and factor not in levels]
    return problems + [Problem(key, f'needs a level of the factor "{f}"') for f in missing]


def _labels(file: StudyFile, combinations: list[Levels]) -> list[str]:
    """Names for combinations: level names alone where these distinguish the factors."""
    if file.configuration.design == "listed":
        return list(file.configuration.named)
    return [_join(file, levels) for levels in combinations]


def _join(file: StudyFile, levels: Levels) -> str:
    """The levels of a combination in one word."""
    names = [level for factor in file.factor.values() for level in factor.level]
    if len(set(names)) == len(names):
        return "+".join(levels.values())
    return "+".join(f"{f}={level}" for f, level in levels.items())


def _baseline_levels(file: StudyFile) -> Levels:
    wanted = file.configuration.baseline
    if wanted is None:
        return {name: next(iter(factor.level)) for name, factor in file.factor.items()}
    if isinstance(wanted, str):
        text = 'must be a table of levels, like { driver = "r61" }'
        raise CompositionError([Problem("configuration.baseline", text)])
    factors = {name: list(factor.level) for name, factor in file.factor.items()}
    problems = check_levels(wanted, factors, "configuration.baseline")
    if problems:
        raise CompositionError(problems)
    return {factor: wanted[factor] for factor in factors}


def _baseline_label(file: StudyFile, combinations: list[Levels], labels: list[str]) -> str:
    wanted = file.configuration.baseline
    if isinstance(wanted, str) and file.configuration.design == "listed":
        if wanted in labels:
            return wanted
        text = f'no configuration "{wanted}"; {closest(wanted, labels)}'
        raise CompositionError([Problem("configuration.baseline", text)])
    if wanted is None:
        return labels[0]
    base = _baseline_levels(file)
    if base not in combinations:
        text = "is not a named configuration; name it, or choose one of those"
        raise CompositionError([Problem("configuration.baseline", text)])
    return labels[combinations.index(base)]


def _compose(file: StudyFile, label: str, levels: Levels, problems: list[Problem]) -> Configuration:
    """A configuration from its levels; contradictions are added to ``problems``."""
    chosen = {f"{f}={name}": file.factor[f].level[name] for f, name in levels.items()}
    return Configuration(
        name=label,
        levels=levels,
        environment=_merge(chosen, "environment", problems),
        prefix=tuple(word for level in chosen.values() for word in level.prefix),
        verify=tuple((name, check) for name, level in chosen.items() for check in level.verify),
        facts=_merge(chosen, "facts", problems),
        quantities={
            **{
                factor: (amount, ONE)
                for factor, level in levels.items()
                if (amount := file.factor[factor].level[level].quantity) is not None
            },
            **_merge(chosen, "quantities", problems),
        },
    )


def _merge(chosen: Mapping[str, Level], table: str, problems: list[Problem]) -> dict[str, Any]:
    """The entries of one table of all levels; two levels must not say different things."""
    merged: dict[str, Any] = {}
    setter: dict[str, str] = {}
    for name, level in chosen.items():
        for key, value in getattr(level, table).items():
            if merged.get(key, value) != value:
                factor, level_name = name.split("=", 1)
                place = f"factor.{factor}.level.{level_name}.{table}.{key}"
                text = f"contradicts {setter[key]}, which sets {merged[key]!r}"
                problems.append(Problem(place, text))
            merged[key], setter[key] = value, name
    return merged
