"""Rankings: who leads and how surely, the order, what it depends on, the tally."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.data.index import WhyNot
from ferocal.analysis.inference.contrasts import Method
from ferocal.documents.blocks import (
    Block,
    Column,
    Document,
    GridCell,
    Heading,
    Line,
    Lines,
    Place,
    Table,
    caveats,
    make_table,
    next_steps,
)
from ferocal.documents.caveats.words import seen_text
from ferocal.documents.numbers import decimals_for, interval_shape
from ferocal.documents.remarks import remark_lines
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.analysis.rank.standings import Ranking, Standing
    from ferocal.answers.rank import Field, RankAnswer, TippingPoint

_MOST_ROWS = 16
_MOST_SENTENCES = 3
_MOST_METRICS = 12
_MOST_LEFT_OUT = 3
# Why a metric is not in a ranking by all together, in words.
WHY_NOT = {
    WhyNot.NO_RATIO: "it may be zero or negative, so it has no ratios",
    WhyNot.NO_ZERO: "its unit has no natural zero, so it has no ratios",
    WhyNot.NOT_EVERYWHERE: "it was not read everywhere",
    WhyNot.NO_WEIGHT: "it has no weight",
    WhyNot.NOT_COMPARABLE: "it is not comparable everywhere",
}


def ranking_document(answer: RankAnswer, *, detail: bool = False) -> Document:
    """The ranking of every field, by all metrics together and by each."""
    blocks: list[Block] = []
    for field in answer.fields:
        if len(answer.fields) > 1:
            word = "configuration" if answer.across == "benches" else "bench"
            blocks.append(Heading(f"{word} {field.place}"))
        said = tuple(map(Line, answer_sentences(field, answer)))
        blocks += [Lines(said, "answer"), _table(field, answer, detail=detail)]
        if len(field.rankings) > 1 or (field.composite and field.rankings):
            blocks.append(_by_metric(field, answer, detail=detail))
    blocks += caveats([*remarks_of(answer), *remark_lines(answer, answer.mixed)])
    return Document(answer.question, (*blocks, next_steps(*_next(answer))))


def answer_sentences(field: Field, answer: RankAnswer) -> Iterator[str]:
    """Who leads and how surely, unless what; who is first here and behind there.

    What cannot be in the ranking comes first.
    """
    ranking = field.main
    by = ranking_name(ranking, answer)
    # Whoever gives weights knows what has none.
    chosen = {WhyNot.NO_WEIGHT} if answer.preference else set()
    left = [f"{s.title} ({WHY_NOT[why]})" for s, why in field.left_out if why not in chosen]
    if left:
        shown = left if len(left) <= _MOST_LEFT_OUT else left[: _MOST_LEFT_OUT - 1]
        more = [f"{len(left) - len(shown)} more"] if len(shown) < len(left) else []
        yield f"Ranked by {by}, without {listed([*shown, *more])}."
    tied = [n for n, s in enumerate(ranking.standings) if s.rank_best == 1]
    names = [ranking.label(n, answer.across) for n in tied]
    top = ranking.standings[0]
    changes = [lead_change_text(change) for change in field.lead_changes[:_MOST_SENTENCES]]
    unless = f", unless {_either(changes)}" if changes else ""
    if math.isnan(top.chance) and len(names) > 1:
        yield (
            f"As read, {names[0]} is first in {by}{unless}; the noise between visits is unknown, "
            "so this order may be chance."
        )
    elif len(names) == 1:
        chance = (
            "" if math.isnan(top.chance) else f" (chance of being first {percent_of(top.chance)})"
        )
        yield f"{names[0]} leads in {by}{chance}{unless}."
    else:
        shown = names if len(names) <= 4 else [*names[:3], f"{len(names) - 3} others"]
        one = "bench" if answer.across == "benches" else "configuration"
        yield f"No {one} clearly leads in {by}: {listed(shown)} share first place."
        yield f"{names[0]} has a chance of {percent_of(top.chance)} of being first{unless}."
    leaders: dict[str, list[str]] = {}
    for name, leader in field.without:
        leaders.setdefault(leader, []).append(name)
    for leader, parts in leaders.items():
        as_read = ", as read" if math.isnan(top.chance) else ""
        yield f"Without {_either(parts)}, {leader} leads{as_read}."
    for reversal in field.reversals[:_MOST_SENTENCES]:
        count = len(ranking.standings)
        yield (
            f"{reversal.name} is 1st in {reversal.first_by.title} but "
            f"{place_text(*reversal.ranks)} of {count} in {reversal.behind_by.title}."
        )


def _either(texts: Sequence[str]) -> str:
    return texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} or {texts[-1]}"


def lead_change_text(change: TippingPoint) -> str:
    """At which weight another leads, such as "storage weighs more than 40 % (now 33 %): tarn-4"."""
    word = "more" if change.above else "less"
    share, now = (f"{100 * x:.0f} %" for x in (change.share, change.now))
    return f"{change.part} weighs {word} than {share} (now {now}; then {change.leader})"


def ranking_name(ranking: Ranking, answer: RankAnswer) -> str:
    """By what is ranked: a metric, or all together."""
    name = ranking.series.title
    if not ranking.series.workload:
        name = answer.preference or "all metrics together"
    return name if answer.per is None else f"{name} per {answer.per}"


def percent_of(chance: float) -> str:
    """A chance as per cent; never 0 or 100 for what was only drawn."""
    if chance > 0.995:
        return ">99 %"
    return "<1 %" if chance < 0.005 else f"{100 * chance:.0f} %"


def rank_text(best: int, worst: int) -> str:
    """A rank, or those between which it lies, such as "2" or "2–3"."""
    return str(best) if best == worst else f"{best}–{worst}"


def place_text(best: int, worst: int) -> str:
    """A rank in words, such as "3rd", "3rd or 4th" or "3rd to 5th"."""
    if best == worst:
        return ordinal(best)
    return f"{ordinal(best)} {'or' if worst == best + 1 else 'to'} {ordinal(worst)}"


def ordinal(number: int) -> str:
    """A number in an order, such as "3rd"."""
    endings = {1: "st", 2: "nd", 3: "rd"}
    ending = "th" if number % 100 in (11, 12, 13) else endings.get(number % 10, "th")
    return f"{number}{ending}"


def value_text(standing: Standing) -> str:
    """A value with as many digits as its interval supports, with half of the interval's width."""
    half = (standing.high - standing.low) / 2
    if not math.isfinite(half):
        return significant(standing.value, 4)
    if standing.value > 0 and (shape := interval_shape(standing.low, standing.high)) != "even":
        low, high = significant(standing.low, 2), significant(standing.high, 2)
        return f"{significant(standing.value, 2)} " + (
            "(wide)" if shape == "wide" else f"({low} … {high})"
        )
    if not half:
        return significant(standing.value, 3)
    places = decimals_for(half)
    return f"{grouped(standing.value, places)} ±{grouped(half, places)}"


def _table(field: Field, answer: RankAnswer, *, detail: bool) -> Table:
    """The main ranking, with what it is per resource, and the tally of all metrics."""
    ranking = field.main
    value = f"{ranking_name(ranking, answer)}, {ranking.series.unit}"
    if ranking.against is not None:
        value = "index"
    tallies = {t.name: t for t in field.tallies} if len(field.rankings) > 1 else {}
    with_chance = any(not math.isnan(s.chance) for s in ranking.standings)
    chance = ["P(first)"] if with_chance else []
    heads = [value, *chance, *(f"per {name}" for name in field.per_resource)]
    columns = [Column(head, right=bool(head)) for head in ("rank", "", *heads)]
    if tallies:
        columns += [Column(x, right=True, spare=True) for x in ("wins", "losses", "ties", "open")]
    standings = ranking.standings if detail else ranking.standings[:_MOST_ROWS]
    rows = []
    main = _main_rows(field, answer, with_chance=with_chance)
    for standing, cells in zip(standings, main, strict=False):
        if tallies:
            t = tallies[cells[1]]
            cells += [str(n) for n in (t.wins, t.losses, t.ties, t.open)]
        made = [GridCell(text, strong=standing.rank_best == 1) for text in cells]
        series = ranking.series
        if series.workload:
            place = (standing.bench, series.workload, series.metric, standing.configuration)
            made[2] = replace(made[2], place=Place(*place))
        rows.append(made)
    captions = ["P(first): chance of being first"] if with_chance else []
    if Method.STATED in ranking.sources:
        captions.append("intervals as stated")
    if ranking.against is not None:
        base = ranking.label(ranking.against, answer.across)
        captions.insert(0, f"index: {ranking_name(ranking, answer)}, {base} = 1")
    if len(standings) < len(ranking.standings):
        captions = [f"{len(ranking.standings) - len(standings)} more: ferocal rank --detail"]
    return make_table(columns, rows, caption="; ".join(captions))


def _main_rows(field: Field, answer: RankAnswer, *, with_chance: bool) -> Iterator[list[str]]:
    """Rank, name, value, perhaps the chance of being first, value and rank per every resource."""
    for place, standing in enumerate(field.main.standings):
        first = [percent_of(standing.chance)] if with_chance else []
        name = field.main.label(place, answer.across)
        rank = rank_text(standing.rank_best, standing.rank_worst)
        others = field.per_resource.values()
        per = [_in_ranking(other, name, answer.across) for other in others]
        yield [rank, name, value_text(standing), *first, *per]


def _in_ranking(ranking: Ranking, name: str, across: str) -> str:
    """A contestant's value and rank in another ranking."""
    for place, standing in enumerate(ranking.standings):
        if ranking.label(place, across) == name:
            rank = rank_text(standing.rank_best, standing.rank_worst)
            return f"{significant(standing.value, 3)} ({rank})"
    return "–"


def _by_metric(field: Field, answer: RankAnswer, *, detail: bool) -> Table:
    """The ranks by every metric, contestants in the order of the main ranking.

    Of many metrics those are shown in which the leader is furthest behind.
    """
    names = [field.main.label(n, answer.across) for n in range(len(field.main.standings))][:8]
    shown, caption = field.rankings, ""
    if not detail and len(shown) > _MOST_METRICS:
        behind = {id(r): -_worst_rank(r, names[0], answer.across) for r in shown}
        chosen = {id(r) for r in sorted(shown, key=lambda r: behind[id(r)])[:_MOST_METRICS]}
        shown = tuple(r for r in shown if id(r) in chosen)
        rest = len(field.rankings) - len(shown)
        caption = f"where {names[0]} is furthest behind; {rest} more: ferocal rank --detail"
    # Where no noise is known all would be tied: what was read has an order all the same.
    as_read = all(math.isnan(s.low) for r in field.rankings for s in r.standings)
    whole = [field.composite] if field.composite is not None and as_read else []
    rows = []
    for other in [*shown, *whole]:
        ranks = {
            other.label(n, answer.across): str(n + 1)
            if as_read
            else rank_text(s.rank_best, s.rank_worst)
            for n, s in enumerate(other.standings)
        }
        name = other.series.title if other.series.workload else ranking_name(other, answer)
        rows.append([name, *(ranks.get(name, "–") for name in names)])
    head = "order as read" if as_read else "rank by"
    return make_table((head, *names), rows, right=names, caption=caption)


def _worst_rank(ranking: Ranking, name: str, across: str) -> int:
    """The worst rank that a contestant may have; 0 where it is not in the ranking."""
    labels = [ranking.label(n, across) for n in range(len(ranking.standings))]
    return ranking.standings[labels.index(name)].rank_worst if name in labels else 0


def remarks_of(answer: RankAnswer) -> Iterator[str]:
    """How ties and intervals came about, what was left out, what is measured otherwise."""
    rankings = [r for field in answer.fields for r in (field.composite, *field.rankings) if r]
    ties = any(s.rank_best != s.rank_worst for r in rankings for s in r.standings)
    if ties:
        yield "equal ranks are statistical ties (pairwise tests, adjusted for their number)"
    for name, caveat in dict.fromkeys(pair for field in answer.fields for pair in field.barred):
        yield f"not ranked: {name} is not comparable ({seen_text(caveat)})"
    if any(math.isnan(s.low) for r in rankings for s in r.standings):
        yield "where the noise between visits is unknown, chances and ties are unknown too"
    absent = list(dict.fromkeys(s.title for field in answer.fields for s in field.absent))
    if absent:
        yield f"not ranked (too few readings, only bounds, or no ratio): {listed(absent)}"
    changed = {name for field in answer.fields for name in field.without}
    if not changed and any(len(field.weights) > 2 for field in answer.fields):
        yield "the leader stays the same whichever workload is left out"
    if answer.across == "benches":
        yield "benches differ in hardware: a rank does not show that software is the cause"


def _next(answer: RankAnswer) -> Iterator[tuple[str, str | None]]:
    resources = list(dict.fromkeys(n for field in answer.fields for n in field.per_resource))
    if resources:
        per = resources[-1]
        word = "rank by value for money" if per == "price" else f"rank per {per}"
        yield word, f"ferocal rank --per {per}"
    if answer.preference is None and answer.preferences:
        yield "with your own weights", f"ferocal rank --for {answer.preferences[0]}"
    elif answer.preference is None:
        yield "to use your own weights, add [preference.NAME] to study.toml", None
    yield "draw it", "ferocal chart -o chart.svg"
