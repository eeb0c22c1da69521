"""What ``ferocal reference --json`` prints."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.documents.objects.base import Object, Text, key, or_none

if TYPE_CHECKING:
    from ferocal.answers.references import Entry


def _is_ours(entry: Entry) -> bool:
    return entry.reference is None


class EntryObject(Object):
    """A result among others."""

    name: str = key("the configuration, or the device")
    ours: bool = key("whether it was measured here", _is_ours)
    value: float = key("its value")
    low: float | None = key("it lies between this")
    high: float | None = key("and this, as far as that is known")
    rank_best: int | None = key("of ours, one more than surely are better")
    rank_worst: int | None = key("of ours, one more than may be better")
    bound: Text = key("`>` or `<` where it is only a bound", or_none("reference.bound"))
    source: Text = key("where a reference is from", or_none("reference.source"))
    date: Text = key("when it was measured or published", or_none("reference.date"))
    retrieved: Text = key("when it was looked up", or_none("reference.retrieved"))


class StandingsObject(Object):
    """Where we stand by a metric."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    unit: str = key("its unit", "series.unit")
    better: str = key("`higher` or `lower`", "series.better")
    count: int = key("the references and one of ours")
    results: list[EntryObject] = key("all results, the best first", "entries")


class ReferencesObject(Object):
    """`ferocal reference --json`."""

    question: str = key("the question of the study")
    confidence: float = key("the level of our intervals")
    total: int = key("how many references are kept")
    standings: list[StandingsObject] = key("where we stand, metric by metric")
