"""Where we stand: our own results among those from elsewhere."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

from ferocal.analysis.data.series import Series
from ferocal.answers.evidence import Evidence
from ferocal.answers.rank import rank_values
from ferocal.answers.selection import Selection
from ferocal.errors import UsageError
from ferocal.ledger.records import Reference
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Entry:
    """A result in a list: one of ours, or a reference.

    ``low`` and ``high`` are what it surely lies between, NaN where that is unknown of one of
    ours. Of ours, ``rank_best`` and ``rank_worst`` are those among all references.
    """

    name: str
    value: float
    low: float
    high: float
    reference: Reference | None = None
    rank_best: int | None = None
    rank_worst: int | None = None


@dataclass(frozen=True)
class Standings:
    """All results of a metric, the best first; ``count`` is the references and one of ours."""

    series: Series
    entries: tuple[Entry, ...]
    count: int


@dataclass(frozen=True)
class ReferenceAnswer:
    """Where we stand, metric by metric; of ``total`` references some may have been left out."""

    question: str
    confidence: float
    standings: tuple[Standings, ...]
    total: int


def stand_among(
    study: Study,
    evidence: Evidence,
    references: Sequence[Reference],
    *,
    selection: Selection | None = None,
    search: str = "",
) -> ReferenceAnswer:
    """Our results among the references of the same metric, the best first.

    References never enter a verdict. ``search`` limits those that are listed to the ones whose
    device, source or date has that text; ranks are among all.

    Raises
    ------
    UsageError
        When a name is unknown, or there are no references.
    """
    selection = (selection or Selection()).resolve(study)
    if not references:
        raise UsageError(
            "no published results yet; add one: ferocal reference add --device … --metric … "
            "--value … --source …, or those of a file: ferocal reference add FILE"
        )
    by_metric: dict[tuple[str, str], list[Reference]] = {}
    for reference in references:
        by_metric.setdefault((reference.workload, reference.metric), []).append(reference)
    found = []
    for series in evidence.readings.series:
        place = (series.workload, series.metric)
        wanted = selection.places is None or place in selection.places
        if wanted and place in by_metric:
            own = list(_own(study, evidence, series, selection))
            found.append(_standings(series, own, by_metric[place], search))
    return ReferenceAnswer(
        question=study.head.question,
        confidence=evidence.confidence,
        standings=tuple(found),
        total=len(references),
    )


def _own(study: Study, evidence: Evidence, series: Series, selection: Selection) -> Iterator[Entry]:
    """Our results, with their intervals."""
    several = len(study.benches) > 1
    for standing in rank_values(study, evidence, series):
        if not selection.includes(standing.bench, standing.configuration):
            continue
        where = f" on {standing.bench}" if several else ""
        yield Entry(f"{standing.configuration}{where}", standing.value, standing.low, standing.high)


def _standings(
    series: Series, own: Sequence[Entry], references: Sequence[Reference], search: str
) -> Standings:
    others = [_entry(reference) for reference in references]
    higher = series.better != "lower"
    ranked = [_ranked(entry, others, higher) for entry in own]
    shown = [e for e in others if _matches(e.reference, search)]
    entries = sorted([*ranked, *shown], key=lambda e: e.value, reverse=higher)
    return Standings(series, tuple(entries), len(references) + 1)


def _entry(reference: Reference) -> Entry:
    low, high = reference.low, reference.high
    if reference.bound == ">":
        low, high = reference.value, math.inf
    elif reference.bound == "<":
        low, high = -math.inf, reference.value
    ends = (reference.value if low is None else low, reference.value if high is None else high)
    return Entry(reference.device, reference.value, *ends, reference)


def _matches(reference: Reference | None, search: str) -> bool:
    if not search or reference is None:
        return True
    text = " ".join((reference.device, reference.source, reference.date))
    return search.casefold() in text.casefold()


def _ranked(own: Entry, others: Sequence[Entry], higher: bool) -> Entry:
    """One of ours with the ranks that it may have: those surely better, and those maybe."""
    low, high = own.low, own.high
    if math.isnan(low):
        # Without an interval all that is known is that there is a value.
        return Entry(own.name, own.value, low, high, None, None, None)
    if higher:
        surely = sum(other.low > high for other in others)
        maybe = sum(other.high > low for other in others)
    else:
        surely = sum(other.high < low for other in others)
        maybe = sum(other.low < high for other in others)
    return Entry(own.name, own.value, low, high, None, 1 + surely, 1 + maybe)
