"""The order of visits: rounds in mirrored pairs, or every configuration once."""

from __future__ import annotations

import itertools
import random
from collections.abc import Sequence

from ferocal.errors import UsageError
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


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
    return _number([(r, name) for r, order in enumerate(orders, 1) for name in order])


def plan_once(names: Sequence[str], visits: int, *, back: bool) -> list[PlannedVisit]:
    """Every configuration once in the listed order, ``visits`` visits in one go.

    With ``back`` the first configuration is visited once more at the end. The visits of
    a configuration are numbered like rounds, but they are not interleaved.
    """
    stays = [(number, name) for name in names for number in range(1, visits + 1)]
    if back:
        stays += [(number, names[0]) for number in range(visits + 1, 2 * visits + 1)]
    return _number(stays)


def plan_study(study: Study, rounds: int | None = None) -> list[PlannedVisit]:
    """All visits of a study; ``rounds`` stands for the number in the study file.

    Raises
    ------
    UsageError
        When rounds are asked of a schedule that has none.
    """
    head = study.head
    names = [configuration.name for configuration in study.configurations]
    if head.schedule == "rounds":
        return plan_rounds(names, rounds or head.rounds, head.seed)
    if rounds is not None:
        raise UsageError(f'the schedule is "{head.schedule}", which has no rounds to add to')
    return plan_once(names, head.visits, back=head.schedule == "return")


def by_round(visits: Sequence[PlannedVisit]) -> dict[int, list[str]]:
    """The configurations of each round in the order of their visits."""
    order: dict[int, list[str]] = {}
    for visit in visits:
        order.setdefault(visit.round, []).append(visit.configuration)
    return order


def workloads_of(study: Study, configuration: str) -> list[str]:
    """The workloads that are run in a visit, in order: all that go with its configuration."""
    return [w for w in study.workloads if not study.is_impossible(configuration, w)]


def count_runs(study: Study, visits: Sequence[PlannedVisit]) -> tuple[int, int]:
    """How many runs these visits take, and how many times they warm up."""
    made = [workload for visit in visits for workload in workloads_of(study, visit.configuration)]
    return len(made) * study.head.runs, sum(study.workloads[w].warmups for w in made)


def count_switches(visits: Sequence[PlannedVisit]) -> int:
    """How often the bench goes from one configuration to another."""
    return sum(a.configuration != b.configuration for a, b in itertools.pairwise(visits))


def _number(stays: Sequence[tuple[int, str]]) -> list[PlannedVisit]:
    return [PlannedVisit(r, position, name) for position, (r, name) in enumerate(stays, 1)]
