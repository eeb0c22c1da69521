"""The order of visits: rounds in mirrored pairs."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class PlannedVisit:
    """One visit of the plan; rounds and positions count from 1."""

    round: int
    position: int
    configuration: str


def round_order(names: Sequence[str], number: int, seed: int) -> list[str]:
    """The order of the configurations in round ``number`` (from 1).

    Rounds come in mirrored pairs: the first of a pair is shuffled, the second is its
    reverse, so that a linear drift adds the same to every configuration over the pair.
    The order depends on nothing but the names, the pair and the seed; a study can be
    resumed and extended without changing what came before.
    """
    pair, second = divmod(number - 1, 2)
    order = list(names)
    # A text seed is hashed by the standard library in the same way on every platform.
    random.Random(f"{seed}/{pair}").shuffle(order)
    return order[::-1] if second else order


def plan_rounds(names: Sequence[str], rounds: int, seed: int) -> list[PlannedVisit]:
    """All visits of the first ``rounds`` rounds in the order in which they are made."""
    orders = [round_order(names, number, seed) for number in range(1, rounds + 1)]
    visits = [(number, name) for number, order in enumerate(orders, 1) for name in order]
    return [PlannedVisit(r, position, name) for position, (r, name) in enumerate(visits, 1)]
