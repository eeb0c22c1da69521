"""What ``ferocal compare --between --json`` prints."""

from __future__ import annotations

from ferocal.documents.between import crossing_sentence
from ferocal.documents.objects.base import Object, key


class DifferenceObject(Object):
    """A change in one place against the same in another."""

    bench: str = key("where the first was measured", "first.bench")
    configuration: str = key("what is compared", "first.configuration")
    baseline: str = key("with what it is compared", "first.baseline")
    workload: str = key("of the first", "series.workload")
    metric: str = key("of the first", "series.metric")
    first_place: str = key("where the first change was seen")
    second_place: str = key("where the second was")
    first_change: float | None = key("the first change", "first.change")
    second: float | None = key("the second change", "second.change")
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "estimate.scale")
    change: float | None = key(
        "the second over the first, less one; a difference of differences in the unit",
        "estimate.change",
    )
    low: float | None = key("lower end of its interval", "estimate.low")
    high: float | None = key("upper end of it", "estimate.high")
    p_adjusted: float | None = key(
        "p-value after Holm's adjustment among all of these", "estimate.p_adjusted"
    )
    verdict: str = key(
        "whether the second is `better`, `worse`, `equivalent` or that is `inconclusive`",
        "estimate.verdict",
    )


class CrossingObject(Object):
    """Where curves over the size of a problem cross."""

    bench: str = key("where")
    configuration: str = key("what is compared")
    baseline: str = key("with what")
    sized_workload: str = key("the workload that has sizes")
    metric: str = key("what was read")
    parameter: str = key("what the size is of")
    size: float = key("where both are alike", "crossing.size")
    low: float | None = key("lower end of its 95 % interval", "crossing.low")
    high: float | None = key("upper end of it", "crossing.high")
    better_above: bool = key("whether the configuration is better beyond", "crossing.better_above")
    text: str = key("the same in words", crossing_sentence)


class BetweenObject(Object):
    """`ferocal compare --between --json`."""

    question: str = key("the question of the study")
    kind: str = key("between what: `workload`, `size`, `bench`, `study`, a factor")
    baseline: str = key("with what configurations are compared")
    differences: list[DifferenceObject] = key("the changes in one place against those in another")
    crossings: list[CrossingObject] = key("where curves over sizes cross")
    skipped: list[str] = key("what could not be compared")
