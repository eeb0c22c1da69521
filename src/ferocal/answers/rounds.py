"""Rounds as they were: which visits of one number were made near each other in time."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

from ferocal.analysis.data.readings import NO_ROUND, ROUND_STRIDE
from ferocal.ledger.reading.visits import TimePlace, VisitRow

# By configuration and number of a round the place in time of its first visit.
Places = dict[str, dict[int, TimePlace]]
# Of two visits that pair one follows the other, with at most one between them.
_MOST_APART = 2


def find_rounds(visits: Mapping[int, VisitRow], names: Sequence[str]) -> dict[int, int]:
    """The round of every visit by its key; visits of one round pair, `NO_ROUND` pairs with none.

    Two configurations pair in those rounds that follow each other: whatever number visits have,
    all of one configuration before all of another is no interleaving. What was measured later, such
    as a configuration that was added, does not take the others out of their rounds.
    """
    by_bench: dict[str, Places] = {}
    for visit in sorted(visits.values(), key=lambda visit: visit.place):
        if visit.round is not None and visit.state == "active":
            places = by_bench.setdefault(visit.bench, {}).setdefault(visit.configuration, {})
            places.setdefault(visit.round, visit.place)
    found = {bench: _on_bench(places, names) for bench, places in by_bench.items()}
    return {
        key: NO_ROUND
        if v.round is None
        else found.get(v.bench, {}).get((v.configuration, v.round), NO_ROUND)
        for key, v in visits.items()
    }


def _on_bench(places: Places, names: Sequence[str]) -> dict[tuple[str, int], int]:
    """The round of every configuration and number on a bench."""
    if _in_sequence(places):
        return {(name, n): n for name, rounds in places.items() for n in rounds}
    known = [*(n for n in names if n in places), *(n for n in places if n not in names)]
    # Each round belongs to the first configuration that it pairs with.
    leaders: list[str] = []
    owner: dict[tuple[str, int], int] = {}
    for name in known:
        left = set(places[name])
        for number, leader in enumerate(leaders):
            together = _together(places[leader], places[name]) & left
            owner |= {(name, n): number for n in together if owner.get((leader, n)) == number}
            left -= {n for n in together if owner.get((leader, n)) == number}
        if left:
            owner |= {(name, n): len(leaders) for n in left}
            leaders.append(name)
    members: dict[tuple[int, int], int] = {}
    for (_, n), number in owner.items():
        members[number, n] = members.get((number, n), 0) + 1
    return {
        (name, n): n + number * ROUND_STRIDE if number == 0 or members[number, n] > 1 else NO_ROUND
        for (name, n), number in owner.items()
    }


def _in_sequence(places: Places) -> bool:
    """Whether all visits of each round are before those of the next, as far as times are known."""
    rounds: dict[int, list[TimePlace]] = {}
    for of_name in places.values():
        for n, place in of_name.items():
            if place[0]:
                rounds.setdefault(n, []).append(place)
    ends = [(min(rounds[n]), max(rounds[n])) for n in sorted(rounds)]
    return all(a[1] < b[0] for a, b in itertools.pairwise(ends))


def _together(first: Mapping[int, TimePlace], second: Mapping[int, TimePlace]) -> set[int]:
    """The rounds in which two configurations were measured near each other in time.

    The longest chain of rounds of which each has both of its visits before those of the next, or
    after them; a chain of one among several is none. A round is none either if visits of others lie
    between its two, but for a single one that was made up for. Of unknown times nothing is said.
    """
    common = sorted(first.keys() & second.keys())
    dated = [n for n in common if first[n][0] and second[n][0]]
    visits = sorted([*first.values(), *second.values()])
    ends = {n: [visits.index(of[n]) for of in (first, second)] for n in dated}
    several = len(dated) > 1
    dated = [n for n in dated if abs(ends[n][0] - ends[n][1]) <= _MOST_APART]
    spans = [sorted((first[n], second[n])) for n in dated]
    chains = [_longest_chain(spans), [len(spans) - 1 - n for n in _longest_chain(spans[::-1])]]
    chain = max(chains, key=len)
    if several and len(chain) < 2:
        chain = []
    undated = {n for n in common if not (first[n][0] and second[n][0])}
    return {dated[n] for n in chain} | undated


def _longest_chain(spans: Sequence[Sequence[TimePlace]]) -> list[int]:
    """Places of the most spans, in this order, of which each ends before the next begins."""
    best: list[list[int]] = []
    for n, span in enumerate(spans):
        before = [chain for m, chain in enumerate(best) if spans[m][1] < span[0]]
        best.append([*max(before, key=len, default=[]), n])
    return max(best, key=len, default=[])
