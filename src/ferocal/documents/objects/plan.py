"""What ``ferocal plan --json`` prints, with and without a design."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.documents.advice import advice_text
from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.shared import CRITERIA_CHANGED
from ferocal.documents.separation import toml_lines

if TYPE_CHECKING:
    from ferocal.answers.plan import Foresight
    from ferocal.plan.advice import Outlook

_BEYOND = f"more than {MOST_ROUNDS} rounds would be needed"


class VisitObject(Object):
    """A visit of a plan."""

    round: int = key("in which round, from 1")
    position: int = key("its place in the round, from 1")
    configuration: str = key("to which configuration")


class CostObject(Object):
    """What a plan takes."""

    visits: int = key("how many visits")
    switches: int = key("how many switches")
    runs: int = key("how many runs that count")
    warmups: int = key("how many warm-ups")
    run_seconds: float | None = key("what runs take, null where it is not known", unit="s")
    switch_seconds: float | None = key("what switches take", unit="s")
    seconds: float | None = key("what both take", unit="s")
    unknown: list[str] = key("workloads of which no duration is known")


class ComponentsObject(Object):
    """How much a metric varies, on the scale of the analysis."""

    round_sd: float = key("SD of differences within rounds")
    degrees: float = key("its degrees of freedom")
    run_variance: float | None = key("variance of runs within a visit")
    visit_variance: float = key("what visits add to it")
    scale: str = key("`ratio` (natural logarithms) or `difference`")
    fixed: float = key("what no number of rounds takes away")


def _beyond(name: str) -> Callable[[Outlook], str | None]:
    return lambda outlook: None if getattr(outlook, name) else _BEYOND


class OutlookObject(Object):
    """An outlook."""

    workload: str = key("what is run")
    metric: str = key("what is read")
    unit: str | None = key("the unit of `detectable`; null for shares")
    components: ComponentsObject = key("how much it varies")
    detectable: float = key("the smallest change that is found with 80 % power")
    equivalence: float = key("the probability to show that nothing changes")
    rounds_80: int | None = key("rounds in which the change is found, 80 % power")
    rounds_90: int | None = key("the same with 90 % power")
    runs: int | None = key("runs per visit that cost least")
    rounds_80_reason: str | None = key("why `rounds_80` is null", _beyond("rounds_80"))
    rounds_90_reason: str | None = key("why `rounds_90` is null", _beyond("rounds_90"))


def _texts(name: str) -> Callable[[Foresight], list[str]]:
    return lambda foresight: [advice_text(advice) for advice in getattr(foresight, name)]


class PlanObject(Object):
    """`ferocal plan --json`."""

    schedule: str = key("`rounds`, `return` or `once`")
    bench: str | None = key("as seen on which bench; null where there is only one")
    order: list[VisitObject] = key("the visits in their order", "visits")
    cost: CostObject = key("what they take")
    answers: list[str] = key("what the plan can tell, in sentences", _texts("answers"))
    shortcomings: list[str] = key("what it cannot, in sentences", _texts("shortcomings"))
    criteria_changed: list[str] = CRITERIA_CHANGED
    spread_from: str | None = key("where the spread is from")
    outlook: list[OutlookObject] = key("what to expect, metric by metric", "outlooks")


class ProposedObject(Object):
    """A configuration that is proposed."""

    name: str = key("its name")
    levels: dict[str, str] = key("its levels")
    new: bool = key("whether the study does not have it yet")


class SeparationObject(Object):
    """`ferocal plan --design separate --json`."""

    question: str = key("the question of the study")
    separated_effects: int = key("how many effects they separate", "effects")
    switches: int = key("switches in a round")
    seconds: float | None = key("what these take, null where it is not stated", unit="s")
    configurations: list[ProposedObject] = key("what to measure, the baseline first")
    unneeded: list[str] = key("configurations of the study that add nothing to that")
    inseparable: list[str] = key("effects that nothing possible separates")
    study_file: list[str] = key("lines for the study file", toml_lines)
