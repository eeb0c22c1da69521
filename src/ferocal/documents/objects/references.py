"""What ``ferocal reference --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.objects.schema import Key, Schema, attributes


def _of(name: str) -> Callable[[Any], Any]:
    """What is known of a reference; null of one of ours, and where nobody says."""
    return lambda e: None if e.reference is None else getattr(e.reference, name) or None


_ENTRY = Schema(
    "A result among others",
    (
        Key("name", "string", "the configuration, or the device", lambda e: e.name),
        Key("ours", "boolean", "whether it was measured here", lambda e: e.reference is None),
        *attributes(
            (
                ("value", "number", "its value"),
                ("low", "number?", "it lies between this"),
                ("high", "number?", "and this, as far as that is known"),
                ("rank_best", "integer?", "of ours, one more than surely are better"),
                ("rank_worst", "integer?", "of ours, one more than may be better"),
            )
        ),
        Key("bound", "string?", "`>` or `<` where it is only a bound", _of("bound")),
        Key("source", "string?", "where a reference is from", _of("source")),
        Key("date", "string?", "when it was measured or published", _of("date")),
        Key("retrieved", "string?", "when it was looked up", _of("retrieved")),
    ),
)
_STANDINGS = Schema(
    "Where we stand by a metric",
    (
        Key("workload", "string", "what was run", lambda s: s.series.workload),
        Key("metric", "string", "what was read", lambda s: s.series.metric),
        Key("unit", "string", "its unit", lambda s: s.series.unit),
        Key("better", "string", "`higher` or `lower`", lambda s: s.series.better),
        *attributes((("count", "integer", "the references and one of ours"),)),
        Key("results", "array", "all results, the best first", lambda s: s.entries, _ENTRY),
    ),
)
REFERENCES = Schema(
    "`ferocal reference --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("confidence", "number", "the level of our intervals"),
                ("total", "integer", "how many references are kept"),
            )
        ),
        Key("standings", "array", "where we stand, metric by metric", of=_STANDINGS),
    ),
)
