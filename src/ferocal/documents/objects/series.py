"""What ``ferocal series --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.objects.results import CHANGES, LEFT_OUT, SERIES_KEYS
from ferocal.documents.objects.schema import Key, Schema, attributes

_AGAINST = Schema(
    "A release against another one",
    (
        *attributes(
            (
                ("change", "number?", "the change"),
                ("low", "number?", "lower end of its interval"),
                ("high", "number?", "upper end of it"),
                ("p_adjusted", "number?", "p-value, adjusted among all such comparisons"),
            )
        ),
        Key("verdict", "string", "`better`, `worse`, `equivalent`, …", lambda e: e.verdict.value),
        Key("method", "string", "where the interval is from", lambda e: e.method.value),
    ),
)


def _name(attribute: str) -> Callable[[Any], Any]:
    """The name of the release of which a row has the place."""

    def get(pair: Any) -> str | None:
        answer, item = pair
        place = getattr(item, attribute)
        return None if place is None else str(answer.releases[place].name)

    return get


def _of(name: str) -> Callable[[Any], Any]:
    return lambda pair: getattr(pair[1], name)


def _date(pair: Any) -> str | None:
    date = pair[0].releases[pair[1].release].date
    return None if date is None else date.isoformat()


_SERIES = tuple(
    Key(key.name, key.type, key.meaning, (lambda k: lambda pair: k.value(pair[1]))(key))
    for key in SERIES_KEYS
)
_LEVEL = Schema(
    "A metric at one release",
    (
        Key("bench", "string", "where", _of("bench")),
        *_SERIES,
        Key("level", "string", "the release", _name("release")),
        Key("date", "string?", "its date (ISO 8601)", _date),
        Key("visits", "integer", "how many visits there are", _of("visits")),
        Key("scale", "string", "`ratio` or `difference`", _of("scale")),
        Key("value", "number", "its value, in the unit", _of("value")),
        Key("low", "number?", "lower end of its interval", _of("low")),
        Key("high", "number?", "upper end of it", _of("high")),
        Key(
            "against_before",
            "object?",
            "against the measured release before it",
            _of("before"),
            _AGAINST,
        ),
        Key("against_first", "object?", "against the first one", _of("first"), _AGAINST),
        Key("best_level", "string?", "the release with the best value", _name("best_release")),
        Key("against_best", "object?", "against that", _of("best"), _AGAINST),
    ),
)
_STEP = Schema(
    "A step or a creep",
    (
        Key("bench", "string", "where", _of("bench")),
        *_SERIES,
        Key("kind", "string", "`step` or `creep`", _of("kind")),
        Key("last", "string", "the last release before it", _name("last")),
        Key("first_release", "string", "the first release after it", _name("first")),
        Key("earliest", "string", "it lies after this with 95 %", _name("earliest")),
        Key("latest", "string", "and not after this", _name("latest")),
        Key("scale", "string", "`ratio`: changes are shares; `difference`: in the unit",
            _of("scale")),
        Key("change", "number", "its size", _of("change")),
        Key("low", "number?", "lower end of its 95 % interval", _of("low")),
        Key("high", "number?", "upper end of it", _of("high")),
        Key("certainty", "number?", "the probability of this kind against the other",
            _of("certainty")),
        Key("verdict", "string", "`better`, `worse`, …", lambda pair: pair[1].verdict.value),
        Key("undone", "string?", "the release that took it back", _name("undone")),
    ),
)  # fmt: skip
_NEXT = Schema(
    "The visit that would best locate a step",
    (
        *attributes(
            (
                ("bench", "string", "where"),
                ("release", "string", "the release"),
                ("configuration", "string", "its configuration"),
                ("again", "boolean", "whether it was measured before"),
            )
        ),
        Key("workload", "string", "of the step", lambda n: n.series.workload),
        Key("metric", "string", "of the step", lambda n: n.series.metric),
        *attributes(
            (
                ("last", "string", "the step lies after this release"),
                ("first_release=first", "string", "and not after this one"),
                ("chance", "number", "with this probability"),
                ("separation", "number", "size of the step over the SD of a visit"),
                ("seconds", "number?", "what switching there takes (s)"),
            )
        ),
    ),
)
_RELEASE = Schema(
    "A release",
    (
        Key("level", "string", "its name", lambda r: r.name),
        Key("date", "string?", "its date", lambda r: None if r.date is None else str(r.date)),
        *attributes(
            (
                ("note", "string", "what the study file notes of it"),
                ("configuration", "string?", "its configuration, null where there is none"),
            )
        ),
    ),
)


def _each(name: str) -> Callable[[Any], Any]:
    return lambda answer: [(answer, item) for item in getattr(answer, name)]


SERIES = Schema(
    "`ferocal series FACTOR --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("factor", "string", "whose levels follow each other"),
                ("ordered_by=order", "string", "`time`, or `file` for that of the study file"),
            )
        ),
        Key("at_levels", "object", "the levels of the other factors", lambda a: dict(a.at)),
        *attributes((("confidence", "number", "the level of intervals"),)),
        CHANGES,
        *LEFT_OUT,
        Key("releases", "array", "all releases in their order", of=_RELEASE),
        Key("release_values", "array", "every metric at every measured release", _each("values"),
            _LEVEL),
        Key("steps", "array", "what changed, and where", _each("steps"), _STEP),
        Key("unmeasured", "array", "releases without any reading", lambda a: a.unmeasured()),
        Key("unsearched", "array", "bench, workload and metric of which too few releases were read",
            lambda a: [[b, s.workload, s.metric] for b, s in a.unsearched]),
        Key("next_visit", "object?", "which release to measure next", of=_NEXT),
    ),
)  # fmt: skip
