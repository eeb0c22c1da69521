"""The truth of the demo study beside what was found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.table import Table

from ferocal.render.numbers import change_text, interval_text, signed
from ferocal.render.tables import plain_table

if TYPE_CHECKING:
    from ferocal.demo.scenario import FactorTruth, Truth


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
