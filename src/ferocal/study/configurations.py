"""Configurations: levels of factors composed, in the order of the factors."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from difflib import get_close_matches

from ferocal.errors import Problem
from ferocal.study.model import Check, Level, StudyFile

Levels = dict[str, str]


@dataclass(frozen=True)
class Configuration:
    """A named combination of levels, with what they bring composed.

    ``verify`` holds pairs of the level that asks ("driver=r64") and its check.
    """

    name: str
    levels: Levels
    environment: dict[str, str]
    prefix: tuple[str, ...]
    verify: tuple[tuple[str, Check], ...]

    def differs_in(self, other: Configuration) -> tuple[str, ...]:
        """Factors whose level is not the same in both."""
        return tuple(f for f in self.levels if self.levels[f] != other.levels.get(f))


class ConfigurationError(ValueError):
    """Mistakes in the combinations of levels that a study file asks for."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = problems
        super().__init__("; ".join(map(str, problems)))


def closest(name: str, known: list[str] | tuple[str, ...]) -> str:
    """A hint that names the closest known word, or all known ones."""
    match = get_close_matches(name, known, n=1, cutoff=0.5)
    return f'did you mean "{match[0]}"?' if match else f"known: {', '.join(known)}"


def compose_configurations(file: StudyFile) -> tuple[tuple[Configuration, ...], str]:
    """All configurations that the file asks for, the baseline first, and its name.

    Raises
    ------
    ConfigurationError
        Unknown or missing factors and levels, or levels that contradict each other.
    """
    combinations = _combinations(file)
    labels = _labels(file, combinations)
    baseline = _baseline_label(file, combinations, labels)
    composed, problems = [], []
    for label, levels in zip(labels, combinations, strict=True):
        try:
            composed.append(_compose(file, label, levels))
        except ConfigurationError as error:
            problems += [p for p in error.problems if p not in problems]
    if problems:
        raise ConfigurationError(problems)
    composed.sort(key=lambda configuration: configuration.name != baseline)
    return tuple(composed), baseline


def _combinations(file: StudyFile) -> list[Levels]:
    factors = {name: list(factor.level) for name, factor in file.factor.items()}
    wanted = file.configuration
    if wanted.design == "listed":
        problems: list[Problem] = []
        for name, levels in wanted.named.items():
            problems += check_levels(levels, factors, f"configuration.named.{name}")
        if problems:
            raise ConfigurationError(problems)
        return [{f: levels[f] for f in factors} for levels in wanted.named.values()]
    every = [dict(zip(factors, c, strict=True)) for c in itertools.product(*factors.values())]
    if wanted.design == "full":
        return every
    base = _baseline_levels(file, every)
    return [c for c in every if sum(c[f] != base[f] for f in factors) <= 1]


def check_levels(
    levels: Mapping[str, str], factors: Mapping[str, list[str]], key: str
) -> list[Problem]:
    """Mistakes in a table that should give each factor one of its levels."""
    problems = []
    for factor, level in levels.items():
        if factor not in factors:
            hint = closest(factor, list(factors))
            problems.append(Problem(f"{key}.{factor}", f'no factor "{factor}"; {hint}'))
        elif level not in factors[factor]:
            hint = closest(level, factors[factor])
            problems.append(Problem(f"{key}.{factor}", f'{factor} has no level "{level}"; {hint}'))
    missing = [factor for factor in factors if factor not in levels]
    return problems + [Problem(key, f'misses a level of the factor "{f}"') for f in missing]


def _labels(file: StudyFile, combinations: list[Levels]) -> list[str]:
    """Names for combinations: level names alone where these tell the factors apart."""
    if file.configuration.design == "listed":
        return list(file.configuration.named)
    names = [level for factor in file.factor.values() for level in factor.level]
    if len(set(names)) == len(names):
        return ["+".join(levels.values()) for levels in combinations]
    return ["+".join(f"{f}={level}" for f, level in levels.items()) for levels in combinations]


def _baseline_levels(file: StudyFile, combinations: list[Levels]) -> Levels:
    wanted = file.configuration.baseline
    if wanted is None:
        return combinations[0]
    if isinstance(wanted, str):
        text = 'is a table of levels here, like { driver = "r61" }'
        raise ConfigurationError([Problem("configuration.baseline", text)])
    factors = {name: list(factor.level) for name, factor in file.factor.items()}
    problems = check_levels(wanted, factors, "configuration.baseline")
    if problems:
        raise ConfigurationError(problems)
    return {factor: wanted[factor] for factor in factors}


def _baseline_label(file: StudyFile, combinations: list[Levels], labels: list[str]) -> str:
    wanted = file.configuration.baseline
    if isinstance(wanted, str) and file.configuration.design == "listed":
        if wanted in labels:
            return wanted
        text = f'no configuration "{wanted}"; {closest(wanted, labels)}'
        raise ConfigurationError([Problem("configuration.baseline", text)])
    base = _baseline_levels(file, combinations)
    if base not in combinations:
        text = "is none of the named configurations; name it, or choose one of them"
        raise ConfigurationError([Problem("configuration.baseline", text)])
    return labels[combinations.index(base)]


def _compose(file: StudyFile, label: str, levels: Levels) -> Configuration:
    chosen = {f"{f}={name}": file.factor[f].level[name] for f, name in levels.items()}
    return Configuration(
        name=label,
        levels=levels,
        environment=_merge_environments(chosen),
        prefix=tuple(word for level in chosen.values() for word in level.prefix),
        verify=tuple((name, check) for name, level in chosen.items() for check in level.verify),
    )


def _merge_environments(chosen: Mapping[str, Level]) -> dict[str, str]:
    merged: dict[str, str] = {}
    setter: dict[str, str] = {}
    problems = []
    for name, level in chosen.items():
        for variable, value in level.environment.items():
            if merged.get(variable, value) != value:
                factor, own = name.split("=", 1)
                key = f"factor.{factor}.level.{own}.environment.{variable}"
                text = f"contradicts {setter[variable]}, which sets {merged[variable]!r}"
                problems.append(Problem(key, text))
            merged[variable], setter[variable] = value, name
    if problems:
        raise ConfigurationError(problems)
    return merged
