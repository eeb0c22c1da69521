"""Over several rankings: who is first here and behind there, and who wins how often."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.rank.standings import Ranking
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Reversal:
    """Who is first by one metric and behind most others by another, with its ranks there."""

    name: str
    first_by: Series
    behind_by: Series
    ranks: tuple[int, int]


@dataclass(frozen=True)
class Tally:
    """Of all comparisons of one contestant with another, metric by metric, how they ended."""

    name: str
    wins: int
    losses: int
    ties: int
    open: int


def find_reversals(rankings: Sequence[Ranking], across: str) -> list[Reversal]:
    """Who is surely first by one metric and behind most others by another."""
    firsts: dict[str, Series] = {}
    for ranking in rankings:
        top = ranking.standings[0]
        if top.rank_worst == 1:
            firsts.setdefault(ranking.label(0, across), ranking.series)
    found = []
    for name, series in firsts.items():
        worst: tuple[int, Reversal] | None = None
        for ranking in rankings:
            for place, standing in enumerate(ranking.standings):
                if ranking.label(place, across) != name:
                    continue
                count = len(ranking.standings)
                if 2 * (standing.rank_best - 1) >= count - 1 and (
                    worst is None or standing.rank_best > worst[0]
                ):
                    ranks = (standing.rank_best, standing.rank_worst)
                    worst = (standing.rank_best, Reversal(name, series, ranking.series, ranks))
        if worst is not None:
            found.append(worst[1])
    return found


def count_tallies(rankings: Sequence[Ranking], across: str) -> list[Tally]:
    """How often each contestant is shown to be better, worse, or equal."""
    counted: dict[str, Counter[Verdict]] = {}
    for ranking in rankings:
        names = [ranking.label(place, across) for place in range(len(ranking.standings))]
        for name in names:
            counted.setdefault(name, Counter())
        for (a, _), verdict in ranking.verdicts.items():
            counted[names[a]][verdict] += 1
    found = []
    for name, counts in counted.items():
        sure = (counts[v] for v in (Verdict.BETTER, Verdict.WORSE, Verdict.EQUIVALENT))
        wins, losses, ties = sure
        others = sum(counts.values()) - wins - losses - ties
        found.append(Tally(name, wins, losses, ties, others))
    return sorted(found, key=lambda tally: (-tally.wins + tally.losses, -tally.wins))
