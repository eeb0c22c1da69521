"""What is known around the readings: circumstances of configurations, conditions of visits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field

from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.terms.frozen import dataclass

SeenValues = Mapping[str, frozenset[str]]


@dataclass(frozen=True)
class Circumstances:
    """Under what one configuration was measured: all values seen, by name.

    ``subjects`` has, for each workload, its arguments, version and files; ``statistics``,
    for workload and metric, which statistic of several values a reading is ("best", "mean").
    """

    resources: SeenValues
    software: SeenValues
    subjects: Mapping[str, SeenValues]
    statistics: Mapping[tuple[str, str], frozenset[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class BusyBench:
    """Of how many runs it is known what others took of the processors meanwhile.

    In ``busy`` of them others surely took more than a tenth, ``names`` being the most frequent,
    and in ``stolen`` of them the host of the machine withheld as much.
    """

    runs: int
    busy: int
    stolen: int
    names: tuple[str, ...]


@dataclass(frozen=True)
class Conditions:
    """Conditions of each visit; columns of shape (v,).

    ``numbers`` are means over the runs of a visit, NaN where not read; ``words`` the set
    of all texts seen in a visit.
    """

    configurations: tuple[str, ...]
    configuration_of: IntArray
    round_of: IntArray
    numbers: Mapping[str, FloatArray]
    words: Mapping[str, Sequence[frozenset[str]]]
