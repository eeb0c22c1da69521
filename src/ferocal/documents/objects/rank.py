"""What ``ferocal rank --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.objects.results import CHANGES, LEFT_OUT
from ferocal.documents.objects.schema import Key, Schema, attributes


def _standing(name: str) -> Callable[[Any], Any]:
    return lambda row: getattr(row[2], name)


def _series(name: str) -> Callable[[Any], Any]:
    return lambda row: getattr(row[1].series, name) or None


_RANK = Schema(
    "A contestant in a ranking",
    (
        Key("place", "string", "the bench, or the configuration where benches compete",
            lambda row: row[0].place),
        Key("workload", "string?", "of the metric; null: a composite of several",
            _series("workload")),
        Key("metric", "string", "the metric, `index`, or the name of the preference",
            _series("metric")),
        Key("unit", "string", "the unit of the value", _series("unit")),
        Key("per", "string?", "what the values are per, null for nothing", lambda row: row[3]),
        Key("bench", "string", "where", _standing("bench")),
        Key("configuration", "string", "who", _standing("configuration")),
        Key("value", "number", "the value; of a composite relative to `against`",
            _standing("value")),
        Key("low", "number?", "lower end of its interval", _standing("low")),
        Key("high", "number?", "upper end of it", _standing("high")),
        Key("rank_best", "integer", "one more than are shown to be better", _standing("rank_best")),
        Key("rank_worst", "integer", "all but those that are shown to be worse",
            _standing("rank_worst")),
        Key("chance_of_first", "number?", "the chance of being the best of all",
            _standing("first")),
        Key("visits", "integer", "how many visits there are", _standing("visits")),
        Key("against", "string?", "what the values of a composite are relative to",
            lambda row: None if row[1].against is None
            else row[1].label(row[1].against, row[4])),
        Key("in_rounds", "boolean", "whether pairs were compared within common rounds",
            lambda row: row[1].in_rounds),
    ),
)  # fmt: skip
_LEAD = Schema(
    "A weight at which the lead changes hands",
    (
        Key("place", "string", "in which field", lambda pair: pair[0].place),
        *(
            Key(name, kind, meaning, (lambda n: lambda pair: getattr(pair[1], n))(name))
            for name, kind, meaning in (
                ("part", "string", "the workload or group"),
                ("now", "number", "its share of all weights as it is"),
                ("share", "number", "the share beyond which another leads"),
                ("above", "boolean", "whether that is where it weighs more"),
                ("leader", "string", "who leads then"),
            )
        ),
    ),
)
_REVERSAL = Schema(
    "Who is first by one metric and behind by another",
    (
        Key("place", "string", "in which field", lambda pair: pair[0].place),
        Key("name", "string", "who", lambda pair: pair[1].name),
        Key("first_by", "string", "first by this", lambda pair: pair[1].first_by.title),
        Key("behind_by", "string", "behind by this", lambda pair: pair[1].behind_by.title),
        Key("ranks", "array", "the best and the worst rank there", lambda p: list(p[1].ranks)),
    ),
)
_TALLY = Schema(
    "How the comparisons of a contestant ended",
    (
        Key("place", "string", "in which field", lambda pair: pair[0].place),
        *(
            Key(name, kind, meaning, (lambda n: lambda pair: getattr(pair[1], n))(name))
            for name, kind, meaning in (
                ("name", "string", "who"),
                ("wins", "integer", "shown to be better"),
                ("losses", "integer", "shown to be worse"),
                ("ties", "integer", "shown to be equal within the margin"),
                ("open", "integer", "not decided"),
            )
        ),
    ),
)


def rank_rows(answer: Any) -> list[Any]:
    """All rankings, one row for each contestant, the main ones first."""
    rows = []
    for field in answer.fields:
        rankings = [(r, answer.per) for r in (field.composite, *field.rankings) if r is not None]
        rankings += [(ranking, name) for name, ranking in field.per_resource.items()]
        rows += [(field, r, s, per, answer.across) for r, per in rankings for s in r.standings]
    return rows


def _each(name: str) -> Callable[[Any], Any]:
    return lambda answer: [(f, item) for f in answer.fields for item in getattr(f, name)]


RANKING = Schema(
    "`ferocal rank --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("across", "string", "who compete: `configurations` or `benches`"),
                ("preference", "string?", "whose weights count"),
                ("per", "string?", "what values are per"),
                ("per_unit", "string?", "the unit of that, where it is a quantity"),
                ("confidence", "number", "the level of intervals"),
            )
        ),
        CHANGES,
        *LEFT_OUT,
        Key("ranking", "array", "all contestants by every metric and composite, the best first",
            rank_rows, _RANK),
        Key("weights", "object", "the share of each part of the composite, by field",
            lambda a: {f.place: dict(f.weights) for f in a.fields}),
        Key("lead_changes", "array", "how far weights can move", _each("lead_changes"), _LEAD),
        Key("without", "array", "field, part, and who leads without it, where that is another",
            lambda a: [[f.place, *pair] for f in a.fields for pair in f.without]),
        Key("reversals", "array", "who is first here and behind there", _each("reversals"),
            _REVERSAL),
        Key("tally", "array", "wins, losses, ties and what is open", _each("tallies"), _TALLY),
        Key("not_in_index", "array", "metrics that cannot enter the composite",
            lambda a: [s.title for f in a.fields for s, _ in f.left_out]),
        Key("why_not_in_index", "array", "field, metric, and why it cannot enter the composite",
            lambda a: [[f.place, s.title, why] for f in a.fields for s, why in f.left_out]),
    ),
)  # fmt: skip
