"""What ``ferocal compare --across benches --json`` prints."""

from __future__ import annotations

from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.shared import EXCLUDED, LEFT_OUT


class LeadObject(Object):
    """A bench against the first one."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    configuration: str = key("under which configuration")
    bench: str = key("the bench")
    other: str = key("the first bench")
    leader: str | None = key("the bench that is shown to be better")
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "estimate.scale")
    change: float | None = key("the bench over the first one", "estimate.change")
    low: float | None = key("lower end of its interval", "estimate.low")
    high: float | None = key("upper end of it", "estimate.high")
    p_adjusted: float | None = key("p-value, adjusted among all of these", "estimate.p_adjusted")
    verdict: str = key(
        "whether the bench is `better`, `worse`, `equivalent`, …", "estimate.verdict"
    )


class LeadChangeObject(Object):
    """A lead that changed hands."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    bench: str = key("the bench")
    other: str = key("the first bench")
    last: str = key("the last configuration of the former lead", "before.last")
    former: str = key("who led until then", "before.leader")
    former_change: float | None = key("the bench over the first one until then", "before.change")
    first_configuration: str = key("the first configuration of the new lead", "after.first")
    leader: str = key("who leads since", "after.leader")
    change: float | None = key("the bench over the first one since", "after.change")


class AcrossObject(Object):
    """`ferocal compare --across benches --json`."""

    question: str = key("the question of the study")
    first_bench: str = key("the bench that the others are compared with")
    factor: str | None = key("the factor whose levels follow each other")
    confidence: float = key("the level of intervals")
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    order: list[str] = key("configurations in their order")
    leads: list[LeadObject] = key("who leads, metric by metric")
    changes: list[LeadChangeObject] = key("where a lead changed hands")
    differing: dict[str, dict[str, str]] = key("facts of hardware that differ, by bench")
