"""What ``ferocal rank --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from ferocal.documents.objects.base import Object, Text, key
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    DOUBTS,
    EXCLUDED,
    LEFT_OUT,
    RemarkObject,
)

if TYPE_CHECKING:
    from ferocal.analysis.rank.standings import Ranking, Standing
    from ferocal.answers.rank import Field, RankAnswer


class _Row(NamedTuple):
    """A contestant in one ranking of a field."""

    field: Field
    ranking: Ranking
    standing: Standing
    per: str | None
    across: str


def _against(row: _Row) -> str | None:
    of = row.ranking.against
    return None if of is None else row.ranking.label(of, row.across)


class RankObject(Object):
    """A contestant in a ranking."""

    place: str = key("the bench, or the configuration where benches compete", "field.place")
    workload: Text = key("of the metric; null: a composite of several", "ranking.series.workload")
    metric: Text = key(
        "the metric, `index`, or the name of the preference", "ranking.series.metric"
    )
    unit: Text = key("the unit of the value", "ranking.series.unit")
    per: str | None = key("what the values are per, null for nothing")
    bench: str = key("where", "standing.bench")
    configuration: str = key("who", "standing.configuration")
    value: float = key("the value; of a composite relative to `against`", "standing.value")
    low: float | None = key("lower end of its interval", "standing.low")
    high: float | None = key("upper end of it", "standing.high")
    rank_best: int = key("one more than are shown to be better", "standing.rank_best")
    rank_worst: int = key("all but those that are shown to be worse", "standing.rank_worst")
    chance_of_first: float | None = key("the chance of being the best of all", "standing.chance")
    visits: int = key("how many visits there are", "standing.visits")
    against: str | None = key("what the values of a composite are relative to", _against)
    sources: list[str] = key("what comparisons of pairs rest on", "ranking.sources")


class _Part(NamedTuple):
    """Something that is known of a field."""

    field: Field
    item: Any


class TippingPointObject(Object):
    """A weight at which the lead changes hands."""

    place: str = key("in which field", "field.place")
    part: str = key("the workload or group", "item.part")
    now: float = key("its share of all weights as it is", "item.now")
    share: float = key("the share beyond which another leads", "item.share")
    above: bool = key("whether that is where it weighs more", "item.above")
    leader: str = key("who leads then", "item.leader")


class ReversalObject(Object):
    """Who is first by one metric and behind by another."""

    place: str = key("in which field", "field.place")
    name: str = key("who", "item.name")
    first_by: str = key("first by this", "item.first_by.title")
    behind_by: str = key("behind by this", "item.behind_by.title")
    ranks: list[int] = key("the best and the worst rank there", "item.ranks")


class TallyObject(Object):
    """How the comparisons of a contestant ended."""

    place: str = key("in which field", "field.place")
    name: str = key("who", "item.name")
    wins: int = key("shown to be better", "item.wins")
    losses: int = key("shown to be worse", "item.losses")
    ties: int = key("shown to be equal within the margin", "item.ties")
    open: int = key("not decided", "item.open")


def _rows(answer: RankAnswer) -> list[_Row]:
    """All rankings, one row for each contestant, the main ones first."""
    rows = []
    for field in answer.fields:
        rankings = [(r, answer.per) for r in (field.composite, *field.rankings) if r is not None]
        rankings += [(ranking, name) for name, ranking in field.per_resource.items()]
        rows += [
            _Row(field, ranking, standing, per, answer.across)
            for ranking, per in rankings
            for standing in ranking.standings
        ]
    return rows


def _parts(name: str) -> Callable[[RankAnswer], list[_Part]]:
    return lambda answer: [_Part(f, item) for f in answer.fields for item in getattr(f, name)]


def _weights(answer: RankAnswer) -> dict[str, dict[str, float]]:
    return {field.place: dict(field.weights) for field in answer.fields}


def _without(answer: RankAnswer) -> list[list[str]]:
    return [[field.place, *pair] for field in answer.fields for pair in field.without]


def _not_in_index(answer: RankAnswer) -> list[str]:
    return [series.title for field in answer.fields for series, _ in field.left_out]


def _why_not(answer: RankAnswer) -> list[list[str]]:
    return [
        [field.place, series.title, why]
        for field in answer.fields
        for series, why in field.left_out
    ]


class RankingObject(Object):
    """`ferocal rank --json`."""

    question: str = key("the question of the study")
    across: str = key("who compete: `configurations` or `benches`")
    preference: str | None = key("whose weights count")
    per: str | None = key("what values are per")
    per_unit: str | None = key("the unit of that, where it is a quantity")
    confidence: float = key("the level of intervals")
    criteria_changed: list[str] = CRITERIA_CHANGED
    caveats: list[RemarkObject] = DOUBTS
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    ranking: list[RankObject] = key(
        "all contestants by every metric and composite, the best first", _rows
    )
    weights: dict[str, dict[str, float]] = key(
        "the share of each part of the composite, by field", _weights
    )
    lead_changes: list[TippingPointObject] = key("how far weights can move", _parts("lead_changes"))
    without: list[list[str]] = key(
        "field, part, and who leads without it, where that is another", _without
    )
    reversals: list[ReversalObject] = key("who is first here and behind there", _parts("reversals"))
    tally: list[TallyObject] = key("wins, losses, ties and what is open", _parts("tallies"))
    not_in_index: list[str] = key("metrics that cannot enter the composite", _not_in_index)
    why_not_in_index: list[list[str]] = key(
        "field, metric, and why it cannot enter the composite", _why_not
    )
