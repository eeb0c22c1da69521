"""Conditions around the runs: whether they were the same on both sides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ferocal.analysis.arms import LEVEL
from ferocal.analysis.caveats import Caveat
from ferocal.analysis.readings import NO_ROUND
from ferocal.analysis.segments import FloatArray, IntArray
from ferocal.analysis.student import combine_errors, t_interval
from ferocal.wording import listed

# Smaller differences of these are not worth a word, however certain they are.
LEAST_DIFFERENCE = {
    "load": 0.25,
    "free memory, MiB": 256.0,
    "temperature, °C": 1.0,
    "battery, %": 5.0,
    "clock, MHz": 50.0,
    "busy share of others": 0.02,
}


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


def find_condition_differences(
    conditions: Conditions, baseline: str, *, interleaved: bool
) -> dict[str, list[Caveat]]:
    """By configuration, a caveat for each condition that was not the same as the baseline's.

    Notes
    -----
    Student's t on the differences between visits of one round, or Welch's between all
    visits where they are not interleaved; all comparisons share the level. Texts differ
    when nothing that was seen on one side was seen on the other.
    """
    base = conditions.configurations.index(baseline)
    present = np.unique(conditions.configuration_of).tolist()
    others = [c for c in present if c != base]
    found: dict[str, list[Caveat]] = {conditions.configurations[c]: [] for c in others}
    if base not in present:
        return found
    level = LEVEL / max(1, len(others) * len(conditions.numbers))
    for c in others:
        caveats = found[conditions.configurations[c]]
        for name, values in conditions.numbers.items():
            test = _paired if interleaved else _unpaired
            difference, p_value = test(conditions, values, c, base)
            if p_value < level and abs(difference) >= LEAST_DIFFERENCE.get(name, 0.0):
                text = f"with {conditions.configurations[c]}, {name} before the runs differs by "
                text += f"{difference:+.3g} from {baseline}"
                caveats.append(Caveat("conditions-differ", f"{text} (p = {p_value:.1g})"))
        caveats += _differing_words(conditions, c, base)
    return found


def _paired(conditions: Conditions, values: FloatArray, arm: int, base: int) -> tuple[float, float]:
    own, theirs = (_by_round(conditions, values, c) for c in (arm, base))
    gaps = np.array([own[r] - theirs[r] for r in own.keys() & theirs.keys()])
    if len(gaps) < 3:
        return 0.0, 1.0
    error = float(np.std(gaps, ddof=1)) / np.sqrt(len(gaps))
    return _test(float(gaps.mean()), error, len(gaps) - 1.0)


def _by_round(conditions: Conditions, values: FloatArray, arm: int) -> dict[int, float]:
    rows = (conditions.configuration_of == arm) & ~np.isnan(values)
    rows &= conditions.round_of != NO_ROUND
    return dict(zip(conditions.round_of[rows].tolist(), values[rows].tolist(), strict=True))


def _unpaired(
    conditions: Conditions, values: FloatArray, arm: int, base: int
) -> tuple[float, float]:
    sides = [values[(conditions.configuration_of == c) & ~np.isnan(values)] for c in (arm, base)]
    if min(map(len, sides)) < 2:
        return 0.0, 1.0
    parts = [(np.atleast_1d(s.var(ddof=1) / len(s)), np.atleast_1d(len(s) - 1.0)) for s in sides]
    error, degrees = combine_errors(*parts[0], *parts[1])
    return _test(float(sides[0].mean() - sides[1].mean()), float(error[0]), float(degrees[0]))


def _test(difference: float, error: float, degrees: float) -> tuple[float, float]:
    columns = (np.atleast_1d(value) for value in (difference, error, degrees))
    return difference, float(t_interval(*columns).p_value[0])


def _differing_words(conditions: Conditions, arm: int, base: int) -> list[Caveat]:
    found = []
    for name, texts in conditions.words.items():
        own, theirs = (
            frozenset().union(
                *(texts[v] for v in np.flatnonzero(conditions.configuration_of == c).tolist())
            )
            for c in (arm, base)
        )
        if own and theirs and not own & theirs:
            text = f"with {conditions.configurations[arm]}, {name} was {listed(sorted(own))}, with "
            text += f"{conditions.configurations[base]} {listed(sorted(theirs))}"
            found.append(Caveat("conditions-differ", text))
    return found
