"""Families of tests: which contrasts share an error rate, and what that costs them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.analysis.inference.weights import Arm, Contrast

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Setting

CONTROL = "control"


def against_baseline(
    readings: Readings,
    baseline: str,
    *,
    control: str | None = None,
    instead: Mapping[tuple[int, int], int] | None = None,
) -> list[Contrast]:
    """Every other configuration minus the baseline, for every series on every bench.

    In the order of benches, series, configurations. The series of one role are a family, over
    all benches; the control arm, which is the baseline again, is a separate one. ``instead`` has
    the place of another configuration by bench and series where these have another reference.
    """
    base, other = readings.configurations.index(baseline), instead or {}
    return [
        Contrast(
            ((Arm(s, b, c), 1.0), (Arm(s, b, reference), -1.0)),
            CONTROL if name == control else series.role,
        )
        for b in range(len(readings.benches))
        for s, series in enumerate(readings.series)
        for reference in (other.get((b, s), base),)
        for c, name in enumerate(readings.configurations)
        if c != reference and not (reference != base and name == control)
    ]


def find_references(
    readings: Readings, baseline: str, setting: Setting
) -> dict[tuple[int, int], int]:
    """By bench and series the configuration with which others are compared instead of the baseline.

    That which is stated for the workload; else, where nothing was read of the baseline, the first
    of those with readings that differ from it in fewest factors.
    """
    names, floor_arm = readings.configurations, setting.floor_arm
    base = names.index(baseline)
    read: dict[tuple[int, int], set[int]] = {}
    for arm in np.unique(readings.arm_of).tolist():
        strand, c = divmod(arm, len(names))
        s, b = divmod(strand, len(readings.benches))
        read.setdefault((b, s), set()).add(c)
    found = {}
    for (b, s), present in read.items():
        stated = setting.baselines.get(readings.series[s].workload)
        if stated is not None and names.index(stated) in present:
            found[b, s] = names.index(stated)
        elif base not in present:
            others = [c for c in sorted(present) if names[c] != floor_arm]
            apart = {c: len(setting.differing.get(names[c], ())) for c in others}
            found[b, s] = min(others, key=lambda c: apart[c]) if others else base
    return found


def adjust_holm(p_values: FloatArray) -> tuple[FloatArray, IntArray]:
    """Holm's step-down adjustment of p-values of one family; NaN stays NaN.

    Parameters
    ----------
    p_values
        Shape (n,). Those that are NaN do not count as members of the family.

    Returns
    -------
    tuple
        Adjusted p-values, and by what each was multiplied at least, shape (n,) each.

    Notes
    -----
    Holm (1979), A simple sequentially rejective multiple test procedure,
    Scandinavian Journal of Statistics 6(2), 65-70.
    """
    adjusted = np.full(len(p_values), np.nan)
    multiplied = np.ones(len(p_values), dtype=np.int64)
    known = np.flatnonzero(~np.isnan(p_values))
    order = known[np.argsort(p_values[known], kind="stable")]
    multipliers = np.arange(len(order), 0, -1)
    adjusted[order] = np.minimum(1.0, np.maximum.accumulate(multipliers * p_values[order]))
    multiplied[order] = multipliers
    return adjusted, multiplied


def adjust_by_family(
    p_values: FloatArray, families: Sequence[str], counts: np.ndarray
) -> tuple[FloatArray, IntArray, IntArray]:
    """`adjust_holm` within every family; where ``counts`` is false, a test is left out.

    Returns adjusted p-values, by what each was multiplied at least, and how many tests its
    family has, shape (n,) each.
    """
    adjusted = np.full(len(p_values), np.nan)
    multiplied = np.ones(len(p_values), dtype=np.int64)
    size = np.zeros(len(p_values), dtype=np.int64)
    places: dict[str, list[int]] = {}
    for n in np.flatnonzero(counts).tolist():
        places.setdefault(families[n], []).append(n)
    for members in places.values():
        adjusted[members], multiplied[members] = adjust_holm(p_values[members])
        size[members] = np.sum(~np.isnan(p_values[members]))
    return adjusted, multiplied, size
