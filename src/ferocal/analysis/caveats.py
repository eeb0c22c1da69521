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


def not_interleaved() -> Caveat:
    """The arms were measured one after the other."""
    return Caveat(
        "not-interleaved",
        "The configurations were measured one after the other, so whatever else changed with "
        "time is in this change too: measure them in interleaved rounds.",
    )


def extended(last_look: int, rounds: int) -> Caveat:
    """Rounds were added after the looks."""
    return Caveat(
        "extended",
        f"The study was extended to {rounds} rounds after the look at round {last_look}: the "
        "verdict is that of the looks, and the added rounds only sharpen the interval.",
    )


def undeclared_difference(name: str, here: str, there: str) -> Caveat:
    """Software differs that is no declared factor."""
    return Caveat(
        "undeclared-difference",
        f"{name} also differs: {here} against {there} in the baseline. Make it a factor, name "
        "it in the `explains` of one, or make it the same.",
    )


def resources_differ(name: str, here: str, there: str) -> Caveat:
    """The configurations were given different hardware."""
    return Caveat(
        "resources-differ",
        f"{name} differs: {here} against {there} in the baseline, so the change is not one of "
        "software alone: give both the same.",
    )


def workload_differs(name: str, here: str, there: str) -> Caveat:
    """The two sides did not run the same."""
    return Caveat(
        "workload-differs",
        f"{name} of the workload differs: {here} against {there} in the baseline: measure the "
        "same workload on both sides.",
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
