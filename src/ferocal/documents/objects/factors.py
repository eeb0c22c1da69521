"""What ``ferocal factors --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.factors import interaction_sentence, part_line
from ferocal.documents.objects.results import CHANGES, LEFT_OUT
from ferocal.documents.objects.schema import Key, Schema, attributes


def _of(name: str) -> Callable[[Any], Any]:
    return lambda pair: getattr(pair[1], name)


def _judged(name: str) -> Callable[[Any], Any]:
    def value(pair: Any) -> Any:
        judged = pair[1].judged
        return None if judged is None else getattr(judged, name)

    return value


def _series(pair: Any) -> Any:
    return pair[1].series


# An index is of no workload.
_PLACE = (
    Key("bench", "string", "where", lambda pair: pair[0]),
    Key("workload", "string?", "what was run; null: an index over all workloads",
        lambda pair: _series(pair).workload or None),
    Key("metric", "string", "what was read", lambda pair: _series(pair).metric),
    Key("unit", "string", "its unit", lambda pair: _series(pair).unit),
    Key("better", "string", "`higher` or `lower`", lambda pair: _series(pair).better),
)  # fmt: skip
_CHANGE = (
    Key("scale", "string?", "`ratio`: changes are shares; `difference`: in the unit",
        _judged("scale")),
    Key("change", "number?", "change of the measured value", _judged("change")),
    Key("low", "number?", "lower end of its 95 % interval", _judged("low")),
    Key("high", "number?", "upper end of it", _judged("high")),
    Key("p", "number?", "p-value", _judged("p_value")),
    Key("p_adjusted", "number?", "after Holm's adjustment within its family",
        _judged("p_adjusted")),
    Key("degrees", "number?", "degrees of freedom of the interval", _judged("degrees")),
    Key("verdict", "string?", "`better`, `worse`, `equivalent`, `inconclusive`, `seen once`",
        lambda pair: None if pair[1].judged is None else pair[1].judged.verdict.value),
)  # fmt: skip
_EFFECT = Schema(
    "The effect of a level",
    (
        _PLACE[0],
        Key("factor", "string", "what was varied", _of("factor")),
        Key("level", "string", "its level", _of("level")),
        Key("against", "string", "the level that it is compared with", _of("against")),
        *_PLACE[1:],
        *_CHANGE,
        Key("estimable", "boolean", "whether the change is that of the level alone",
            _of("estimable")),
        Key("together", "array", "what always came with it, so that the change is of both",
            lambda pair: list(pair[1].together)),
    ),
)  # fmt: skip
_INTERACTION = Schema(
    "An interaction",
    (
        *_PLACE,
        *(
            Key(name, "string", meaning, _of(name))
            for name, meaning in (
                ("factor", "what was varied"),
                ("level", "its level"),
                ("against", "the level that it is compared with"),
                ("other", "the factor beside it"),
                ("other_level", "its level"),
                ("other_first", "the level that this is compared with"),
            )
        ),
        *_CHANGE,
        Key("beside_first", "number", "the change that `level` brings beside `other_first`",
            lambda pair: pair[1].with_first.change),
        Key("beside_level", "number", "the change that it brings beside `other_level`",
            lambda pair: pair[1].with_other.change),
        Key("text", "string", "the same in words", lambda pair: interaction_sentence([pair[1]])),
    ),
)  # fmt: skip
_CONFOUNDED = Schema(
    "What cannot be told apart",
    (
        Key("bench", "string", "where", lambda pair: pair[0]),
        Key("terms", "array", "the levels, or what moved with them",
            lambda pair: list(pair[1].terms)),
        Key("text", "string", "that in words", _of("text")),
        Key("separate", "string?", "the configuration whose measurement would tell",
            _of("separate")),
        Key("levels", "object?", "its levels",
            lambda pair: None if pair[1].levels is None else dict(pair[1].levels)),
    ),
)  # fmt: skip
_SHARE = Schema(
    "The part of a factor",
    (
        *attributes(
            (
                ("factor", "string", "what was varied"),
                ("start", "string", "its level before"),
                ("end", "string", "its level after"),
            )
        ),
        *(
            Key(name, "number?", meaning, (lambda key: lambda s: getattr(s.judged, key))(name))
            for name, meaning in (
                ("change", "the change due to it"),
                ("low", "lower end of its 95 % interval"),
                ("high", "upper end of it"),
            )
        ),
        Key("share", "number?", "its part of the whole, on the scale of the analysis"),
    ),
)
_PARTS = Schema(
    "The parts of a whole change",
    (
        *_PLACE,
        Key("start", "string", "the configuration before", _of("start")),
        Key("end", "string", "the configuration after", _of("end")),
        Key("change", "number?", "the whole change", lambda pair: pair[1].total.change),
        Key("low", "number?", "lower end of its 95 % interval", lambda pair: pair[1].total.low),
        Key("high", "number?", "upper end of it", lambda pair: pair[1].total.high),
        Key("parts", "array", "the parts of its factors", lambda pair: pair[1].parts, of=_SHARE),
        Key("rest", "number", "what was measured beyond them, on the scale of the analysis",
            _of("rest")),
        Key("lacks", "boolean", "whether that is more than chance", _of("lacks")),
        Key("through", "array", "measured configurations that lie between",
            lambda pair: list(pair[1].through)),
        Key("text", "string", "the same in words", lambda pair: part_line(pair[1])),
    ),
)  # fmt: skip
_STEP = Schema(
    "An amount of a resource",
    (
        *attributes((("level", "string", "the level"), ("amount", "number", "its amount"))),
        *(
            Key(f"{name}{end and '_'}{end}", "number?", meaning, get)
            for name, what in (("speed", "times as fast as with the least"),
                               ("efficiency", "that over the ideal"))
            for end, meaning, get in (
                ("", what, (lambda k: lambda s: 1 + getattr(s, k).change)(name)),
                ("low", "lower end", (lambda k: lambda s: 1 + getattr(s, k).low)(name)),
                ("high", "upper end", (lambda k: lambda s: 1 + getattr(s, k).high)(name)),
            )
        ),
    ),
)  # fmt: skip
_SCALING = Schema(
    "Scaling",
    (
        *_PLACE,
        Key("factor", "string", "what was varied", _of("factor")),
        Key("least", "number", "the least amount", _of("least")),
        Key("steps", "array", "the other amounts", lambda pair: pair[1].steps, of=_STEP),
        Key("serial_share", "number?", "the serial share, from three amounts on",
            lambda pair: None if pair[1].serial is None else pair[1].serial.share),
        Key("serial_half_width", "number?", "half of the width of its 95 % interval",
            _of("serial_half_width")),
    ),
)  # fmt: skip
_FIT = Schema(
    "Lack of fit",
    (
        *_PLACE,
        Key("p", "number", "p-value of lack of fit", _of("p_value")),
        Key("degrees", "number", "its degrees of freedom", _of("degrees")),
        Key("used", "boolean", "whether intervals rest on it", _of("used")),
    ),
)
_INDEX = Schema(
    "A workload in the index",
    (
        Key("bench", "string", "where", lambda row: row[0]),
        Key("factor", "string", "what was varied", lambda row: row[1]),
        Key("level", "string", "its level", lambda row: row[2]),
        Key("workload", "string", "the workload", lambda row: row[3].workload),
        Key("index_weight", "number", "its weight", lambda row: row[3].weight),
        Key("gain", "number?", "its own change, turned so that more is better",
            lambda row: row[3].own.change),
        Key("index_without", "number?", "the change of the index without it",
            lambda row: None if row[3].without is None else row[3].without.change),
    ),
)  # fmt: skip


def _each(name: str) -> Callable[[Any], Any]:
    """What is known on every bench, each with the name of the bench."""
    return lambda answer: [(b.bench, item) for b in answer.benches for item in getattr(b, name)]


def _index_rows(answer: Any) -> list[Any]:
    return [
        (bench.bench, factor, level, part)
        for bench in answer.benches
        for (factor, level), parts in bench.index_parts.items()
        for part in parts
    ]


FACTORS = Schema(
    "`ferocal factors --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("baseline", "string", "its baseline"),
                ("margin", "number", "its margin, a share"),
                ("confidence", "number", "the level of intervals"),
            )
        ),
        CHANGES,
        *LEFT_OUT,
        Key("factors", "array", "what every level does", _each("effects"), _EFFECT),
        Key("interactions", "array", "which levels act on each other", _each("interactions"),
            _INTERACTION),
        Key("confounded", "array", "what cannot be told apart", _each("confounded"), _CONFOUNDED),
        Key("blind", "array", "pairs of factors of which nothing shows whether they act on each "
            "other", _each("blind"), _CONFOUNDED),
        Key("decomposition", "array", "whole changes in their parts", _each("decomposition"),
            _PARTS),
        Key("scaling", "array", "how metrics scale with amounts", _each("scaling"), _SCALING),
        Key("lack_of_fit", "array", "how well the factors add up", _each("lack_of_fit"), _FIT),
        Key("index", "array", "which workload carries the index", _index_rows, _INDEX),
        Key("not_measured", "array", "levels and configurations that are left out, with reasons",
            lambda a: [list(pair) for b in a.benches for pair in b.left_out]),
    ),
)  # fmt: skip
