"""Short sessions against long ones: what is better for the one and worse for the other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.documents.numbers import change_text
from ferocal.traces.kinds import LATE, SESSION

if TYPE_CHECKING:
    from ferocal.documents.numbers import Change


def session_sentences(changes: Iterable[tuple[str, Change]]) -> Iterator[str]:
    """Sentences on changes that are opposite for short and for long sessions.

    Each change comes with what it is due to, such as a configuration or a release.
    """
    short: dict[tuple[str, str, str], Change] = {}
    long: dict[tuple[str, str, str], Change] = {}
    for name, change in changes:
        trace, _, part = change.series.metric.partition("/")
        place = (name, change.series.workload, trace)
        for found, prefix in ((short, SESSION), (long, LATE)):
            if part.startswith(prefix) and change.verdict in CHANGED:
                found.setdefault(place, change)
    for place in short.keys() & long.keys():
        first, last = short[place], long[place]
        if first.verdict is not last.verdict:
            lengths = ("long", "short") if last.verdict is Verdict.BETTER else ("short", "long")
            yield (
                f"{place[0]} on {place[1]}: {first.series.label} {change_text(first)}, "
                f"{last.series.label} {change_text(last)}: better for {lengths[0]} sessions, worse "
                f"for {lengths[1]} ones."
            )
