"""Comparability: what else differed between two arms than what was meant to."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from ferocal.analysis.caveats import Caveat

Values = Mapping[str, frozenset[str]]
_NOTHING: Values = {}


@dataclass(frozen=True)
class Circumstances:
    """Under what one configuration was measured: all values seen, by name.

    ``subjects`` has, for each workload, its arguments, version and files; ``statistics``,
    for workload and metric, what a reading is of several values ("best", "mean").
    """

    resources: Values
    software: Values
    subjects: Mapping[str, Values]
    statistics: Mapping[tuple[str, str], frozenset[str]] = field(default_factory=dict)


def find_differences(
    arm: Circumstances, baseline: Circumstances, workload: str, explained: Collection[str]
) -> list[Caveat]:
    """Caveats on all effects of a workload between two arms.

    Parameters
    ----------
    arm, baseline
        The circumstances of the two sides.
    workload
        The workload of the effects.
    explained
        Software facts that change with a declared factor in which the sides differ.
    """
    software = {k: v for k, v in arm.software.items() if k not in explained}
    subjects = [
        {f"{k} of {workload}": v for k, v in side.subjects.get(workload, _NOTHING).items()}
        for side in (arm, baseline)
    ]
    return [
        *_compare("resources-differ", "a resource", arm.resources, baseline.resources),
        *_compare("undeclared-difference", "software", software, baseline.software),
        *_compare("workload-differs", "the workload", *subjects),
    ]


def find_statistic_difference(
    arm: Circumstances, baseline: Circumstances, workload: str, metric: str
) -> list[Caveat]:
    """A caveat if a reading of a metric is the best of several on one side only."""
    sides = [
        {f"the statistic of {metric}": value}
        for side in (arm, baseline)
        if (value := side.statistics.get((workload, metric))) is not None
    ]
    return _compare("best-of", "what was read", *sides) if len(sides) == 2 else []


def _compare(code: str, what: str, here: Values, there: Values) -> list[Caveat]:
    """A caveat for each name whose values on the two sides are not the same."""
    return [
        Caveat(
            code,
            f"{what} differs, {name}: {_listed(here[name])} against {_listed(there[name])} in the "
            "baseline",
        )
        for name in here
        if name in there and here[name] != there[name]
    ]


def _listed(values: frozenset[str]) -> str:
    return " and ".join(sorted(values))
