"""The truth of the demo study beside what was found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.table import Table

from ferocal.render.numbers import change_text, interval_text, signed
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from ferocal.demo.scenario import FactorTruth, RankTruth, StepTruth, Truth


def truth_table(truths: Sequence[Truth]) -> Table:
    """One row per effect: found, interval, true, and whether the interval holds it."""
    numbers = ("found", "95 % interval", "true")
    table = plain_table("workload", "configuration", *numbers, "interval holds it", right=numbers)
    for truth in truths:
        effect = truth.effect
        table.add_row(
            effect.series.workload,
            effect.configuration,
            change_text(effect),
            interval_text(effect),
            f"{signed(100 * truth.true_change, 1)} %",
            "yes" if truth.covered else "no",
        )
    return table


def factor_truth_table(truths: Sequence[FactorTruth]) -> Table:
    """One row per level and workload: found, interval, true, and whether the interval holds it."""
    numbers = ("found", "95 % interval", "true")
    table = plain_table("workload", "level", *numbers, "interval holds it", right=numbers)
    told = set()
    for truth in truths:
        effect = truth.effect
        moved = frozenset([f"{effect.factor}={effect.level}", *effect.together])
        if (effect.series, moved) in told:
            continue
        told.add((effect.series, moved))
        table.add_row(
            effect.series.workload,
            " with ".join([f"{effect.factor}={effect.level}", *effect.together]),
            change_text(truth.judged),
            interval_text(truth.judged),
            f"{signed(100 * truth.true_change, 1)} %",
            "yes" if truth.covered else "no",
        )
    return table


def step_truth_table(truths: Sequence[StepTruth]) -> Table:
    """One row per true change over releases: where it is, what was found, how large it is."""
    numbers = ("found", "95 % interval", "true")
    table = plain_table("bench", "metric", "true change", *numbers, "holds it", right=numbers)
    for truth in truths:
        where = f"{truth.kind}, {truth.last} to {truth.first}"
        found, interval, holds = "not found", "", "no"
        if truth.found is not None:
            same = truth.found.kind == truth.kind
            found = change_text(truth.found) if same else f"{truth.found.kind} of that size"
            interval, holds = interval_text(truth.found), "yes" if truth.covered else "no"
        true = f"{signed(100 * truth.true_change, 1)} %"
        table.add_row(truth.bench, truth.series.title, where, found, interval, true, holds)
    return table


def rank_truth_table(truths: Sequence[RankTruth]) -> Table:
    """One row per host: its index as found and as it is."""
    numbers = ("index found", "95 % interval", "true")
    table = plain_table("host", *numbers, "interval holds it", right=numbers)
    for truth in truths:
        s = truth.standing
        interval = f"{significant(s.low, 4)} … {significant(s.high, 4)}"
        row = (s.configuration, significant(s.value, 4), interval, significant(truth.true_index, 4))
        table.add_row(*row, "yes" if truth.covered else "no")
    return table
