"""Caveats: named reasons not to trust, or not to attribute, a number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

FEW_ROUNDS = 5


@dataclass(frozen=True)
class Caveat:
    """A reason for caution: a stable code, and what was seen and what to do."""

    code: str
    text: str


def one_visit() -> Caveat:
    """Only one round pairs."""
    return Caveat(
        "one-visit",
        "Only one round has both configurations, so the variation between visits is unknown: "
        "measure more rounds.",
    )


def few_rounds(rounds: int) -> Caveat:
    """So few rounds pair that intervals are wide and outliers weigh much."""
    return Caveat(
        "few-rounds",
        f"Only {rounds} rounds pair, which makes intervals wide: measure at least {FEW_ROUNDS}.",
    )


def unpaired_rounds(unpaired: int, configuration: str, baseline: str) -> Caveat:
    """Some rounds have readings on one side only."""
    return Caveat(
        "unpaired-rounds",
        f"{unpaired} rounds have readings of only one of {configuration} and {baseline} and were "
        "left out: take the missing runs with `ferocal measure --retry`.",
    )


def several_factors(factors: Sequence[str], baseline: str) -> Caveat:
    """More than one thing differs between the two sides."""
    listed = " and ".join(factors)
    return Caveat(
        "several-factors",
        f"{listed} differ from {baseline} together, so the change belongs to none of them alone: "
        "look at configurations that differ in one of them.",
    )


def difference_scale(unit: str) -> Caveat:
    """The metric has readings that are zero or negative."""
    return Caveat(
        "difference-scale",
        f"Some readings are zero or negative, so the change is a difference in {unit} and a "
        "margin in per cent does not apply: no equivalence can be shown.",
    )


def no_spread() -> Caveat:
    """All rounds show exactly the same difference."""
    return Caveat(
        "no-spread",
        "Every round shows exactly the same difference, so the interval has no width: check that "
        "the metric is measured, and finely enough.",
    )
