"""The truth of the demo study beside what was found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Table, make_table
from ferocal.documents.numbers import change_text, interval_text, signed
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from ferocal.demo.scenario import FactorTruth, RankTruth, StepTruth, Truth


def truth_table(truths: Sequence[Truth]) -> Table:
    """One row per effect: found, interval, true, and whether the interval covers it."""
    numbers = ("found", "95 % interval", "true")
    heads, rows = ("workload", "configuration", *numbers, "interval covers it"), []
    for truth in truths:
        effect = truth.effect
        rows.append(
            (
                effect.series.workload,
                effect.configuration,
                change_text(effect),
                interval_text(effect),
                f"{signed(100 * truth.true_change, 1)} %",
                "yes" if truth.covered else "no",
            )
        )
    return make_table(heads, rows, right=numbers)


def factor_truth_table(truths: Sequence[FactorTruth]) -> Table:
    """One row per level and workload: found, interval, true, and whether the interval covers it."""
    numbers = ("found", "95 % interval", "true")
    heads, rows = ("workload", "level", *numbers, "interval covers it"), []
    told = set()
    for truth in truths:
        effect = truth.effect
        moved = frozenset([f"{effect.factor}={effect.level}", *effect.together])
        if (effect.series, moved) in told:
            continue
        told.add((effect.series, moved))
        rows.append(
            (
                effect.series.workload,
                " with ".join([f"{effect.factor}={effect.level}", *effect.together]),
                change_text(truth.judged),
                interval_text(truth.judged),
                f"{signed(100 * truth.true_change, 1)} %",
                "yes" if truth.covered else "no",
            )
        )
    return make_table(heads, rows, right=numbers)


def step_truth_table(truths: Sequence[StepTruth]) -> Table:
    """One row per true change over releases: where it is, what was found, how large it is."""
    numbers = ("found", "95 % interval", "true")
    heads, rows = ("bench", "metric", "true change", *numbers, "covered"), []
    for truth in truths:
        where = f"{truth.kind}, {truth.last} to {truth.first}"
        found, interval, holds = "not detected", "", "no"
        if truth.found is not None:
            same = truth.found.kind == truth.kind
            found = change_text(truth.found) if same else f"{truth.found.kind} of that size"
            interval, holds = interval_text(truth.found), "yes" if truth.covered else "no"
        true = f"{signed(100 * truth.true_change, 1)} %"
        rows.append((truth.bench, truth.series.title, where, found, interval, true, holds))
    return make_table(heads, rows, right=numbers)


def rank_truth_table(truths: Sequence[RankTruth]) -> Table:
    """One row per host: its index as found and as it is."""
    numbers = ("index found", "95 % interval", "true")
    heads, rows = ("host", *numbers, "interval covers it"), []
    for truth in truths:
        s = truth.standing
        interval = f"{significant(s.low, 4)} … {significant(s.high, 4)}"
        row = (s.configuration, significant(s.value, 4), interval, significant(truth.true_index, 4))
        rows.append((*row, "yes" if truth.covered else "no"))
    return make_table(heads, rows, right=numbers)
