"""What ``ferocal compare --between --json`` prints."""

from __future__ import annotations

from ferocal.documents.between import crossing_sentence
from ferocal.documents.objects.schema import Key, Schema, attributes

_DIFFERENCE = Schema(
    "A change in one place against the same in another",
    (
        Key("bench", "string", "where the first was measured", lambda d: d.first.bench),
        Key("configuration", "string", "what is compared", lambda d: d.first.configuration),
        Key("baseline", "string", "with what it is compared", lambda d: d.first.baseline),
        Key("workload", "string", "of the first", lambda d: d.series.workload),
        Key("metric", "string", "of the first", lambda d: d.series.metric),
        *attributes(
            (
                ("first_place", "string", "where the first change was seen"),
                ("second_place", "string", "where the second was"),
            )
        ),
        Key("first_change", "number?", "the first change", lambda d: d.first.change),
        Key("second", "number?", "the second change", lambda d: d.second.change),
        Key("scale", "string", "`ratio`: changes are shares; `difference`: in the unit",
            lambda d: d.estimate.scale),
        Key("change", "number?", "the second over the first, less one; a difference of "
            "differences in the unit", lambda d: d.estimate.change),
        Key("low", "number?", "lower end of its interval", lambda d: d.estimate.low),
        Key("high", "number?", "upper end of it", lambda d: d.estimate.high),
        Key("p_adjusted", "number?", "p-value after Holm's adjustment among all of these",
            lambda d: d.estimate.p_adjusted),
        Key("verdict", "string", "whether the second is `better`, `worse`, `equivalent` or that "
            "is `inconclusive`", lambda d: d.estimate.verdict.value),
    ),
)  # fmt: skip
_CROSSING = Schema(
    "Where curves over the size of a problem cross",
    (
        *attributes(
            (
                ("bench", "string", "where"),
                ("configuration", "string", "what is compared"),
                ("baseline", "string", "with what"),
                ("family", "string", "the workload that has sizes"),
                ("metric", "string", "what was read"),
                ("parameter", "string", "what the size is of"),
            )
        ),
        Key("size", "number", "where both are alike", lambda c: c.crossing.size),
        Key("low", "number", "lower end of its 95 % interval", lambda c: c.crossing.low),
        Key("high", "number", "upper end of it", lambda c: c.crossing.high),
        Key("better_above", "boolean", "whether the configuration is better beyond",
            lambda c: c.crossing.better_above),
        Key("text", "string", "the same in words", crossing_sentence),
    ),
)  # fmt: skip
BETWEEN = Schema(
    "`ferocal compare --between --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("kind", "string", "between what: `workload`, `size`, `bench`, `study`, a factor"),
                ("baseline", "string", "with what configurations are compared"),
            )
        ),
        Key("differences", "array", "the changes in one place against those in another",
            of=_DIFFERENCE),
        Key("crossings", "array", "where curves over sizes cross", of=_CROSSING),
        Key("skipped", "array", "what could not be compared", lambda a: list(a.skipped)),
    ),
)  # fmt: skip
