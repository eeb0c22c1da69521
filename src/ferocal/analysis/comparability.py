"""Comparability: what else differed between two arms than what was meant to."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass

from ferocal.analysis import caveats
from ferocal.analysis.caveats import Caveat

Values = Mapping[str, frozenset[str]]


@dataclass(frozen=True)
class Circumstances:
    """Under what one configuration was measured: all values seen, by name.

    ``subjects`` has, for each workload, its arguments, version and files.
    """

    resources: Values
    software: Values
    subjects: Mapping[str, Values]


def find_differences(
    arm: Circumstances, baseline: Circumstances, workload: str, explained: Collection[str]
) -> list[Caveat]:
    """Caveats on an effect between two arms.

    Parameters
    ----------
    arm, baseline
        The circumstances of the two sides.
    workload
        The workload of the effect.
    explained
        Software facts that change with a declared factor in which the sides differ.
    """
    nothing: Values = {}
    software = {k: v for k, v in arm.software.items() if k not in explained}
    return [
        *_compare(arm.resources, baseline.resources, caveats.resources_differ),
        *_compare(software, baseline.software, caveats.undeclared_difference),
        *_compare(
            arm.subjects.get(workload, nothing),
            baseline.subjects.get(workload, nothing),
            caveats.workload_differs,
        ),
    ]


def _compare(
    here: Values, there: Values, caveat: Callable[[str, str, str], Caveat]
) -> list[Caveat]:
    """A caveat for each name whose values on the two sides are not the same."""
    return [
        caveat(name, _listed(here[name]), _listed(there[name]))
        for name in here
        if name in there and here[name] != there[name]
    ]


def _listed(values: frozenset[str]) -> str:
    return " and ".join(sorted(values))
