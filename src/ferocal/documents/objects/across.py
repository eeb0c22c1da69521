"""What ``ferocal compare --across benches --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.objects.results import LEFT_OUT
from ferocal.documents.objects.schema import Key, Schema, attributes


def _estimate(name: str) -> Callable[[Any], Any]:
    return lambda lead: getattr(lead.estimate, name)


_LEAD = Schema(
    "A bench against the first one",
    (
        Key("workload", "string", "what was run", lambda lead: lead.series.workload),
        Key("metric", "string", "what was read", lambda lead: lead.series.metric),
        *attributes(
            (
                ("configuration", "string", "under which configuration"),
                ("bench", "string", "the bench"),
                ("other", "string", "the first bench"),
                ("leader", "string?", "the bench that is shown to be better"),
            )
        ),
        Key("scale", "string", "`ratio`: changes are shares; `difference`: in the unit",
            _estimate("scale")),
        Key("change", "number?", "the bench over the first one", _estimate("change")),
        Key("low", "number?", "lower end of its interval", _estimate("low")),
        Key("high", "number?", "upper end of it", _estimate("high")),
        Key("p_adjusted", "number?", "p-value, adjusted among all of these",
            _estimate("p_adjusted")),
        Key("verdict", "string", "whether the bench is `better`, `worse`, `equivalent`, …",
            lambda lead: lead.estimate.verdict.value),
    ),
)  # fmt: skip
_CHANGE = Schema(
    "A lead that changed hands",
    (
        Key("workload", "string", "what was run", lambda c: c.series.workload),
        Key("metric", "string", "what was read", lambda c: c.series.metric),
        *attributes((("bench", "string", "the bench"), ("other", "string", "the first bench"))),
        Key("last", "string", "the last configuration of the former lead", lambda c: c.before.last),
        Key("former", "string", "who led until then", lambda c: c.before.leader),
        Key("former_change", "number", "the bench over the first one until then",
            lambda c: c.before.change),
        Key("first_configuration", "string", "the first configuration of the new lead",
            lambda c: c.after.first),
        Key("leader", "string", "who leads since", lambda c: c.after.leader),
        Key("change", "number", "the bench over the first one since", lambda c: c.after.change),
    ),
)  # fmt: skip
ACROSS = Schema(
    "`ferocal compare --across benches --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("first_bench=first", "string", "the bench that the others are compared with"),
                ("factor", "string?", "the factor whose levels follow each other"),
                ("confidence", "number", "the level of intervals"),
            )
        ),
        *LEFT_OUT,
        Key("order", "array", "configurations in their order", lambda a: list(a.order)),
        Key("leads", "array", "who leads, metric by metric", of=_LEAD),
        Key("changes", "array", "where a lead changed hands", of=_CHANGE),
        Key("differing", "object", "facts of hardware that differ, by bench",
            lambda a: {name: dict(values) for name, values in a.differing.items()}),
    ),
)  # fmt: skip
