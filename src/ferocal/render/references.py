"""References as text: where we stand, ours marked, the others told to be from elsewhere."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.console import Text, show_beside
from ferocal.render.numbers import decimals_for, reading_text
from ferocal.render.ranking import place_text
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.answers.references import Entry, ReferenceAnswer, Standings

OURS, ELSEWHERE = "\N{BLACK DIAMOND}", "\N{WHITE DIAMOND}"
# Around ours so many others are shown, and as many of the best.
_BESIDE = 3
_MOST_ROWS = 20
_MOST_NAMED = 4


def show_references(console: Console, answer: ReferenceAnswer, *, everything: bool = False) -> None:
    """Print where we stand by every metric, and the list of results around that."""
    console.print(answer.question, style="bold", end="\n\n")
    for standings in answer.standings:
        for line in stand_lines(standings):
            show_beside(console, "", [line], margin=0)
        console.print(_table(standings, everything=everything))
    if not answer.standings:
        console.print("no reference is of a metric that was asked for")
    show_beside(
        console,
        "mind",
        [
            f"{ELSEWHERE} from elsewhere: no runs are behind it, and it is in no verdict; other "
            "hardware, versions and ways of measuring may be in the difference",
        ],
    )
    show_beside(console, "next", ["all of them: ferocal reference --all; some: --search TEXT"])


def stand_lines(standings: Standings) -> Iterator[str]:
    """Where ours stand among the references, in sentences."""
    own = [e for e in standings.entries if e.reference is None]
    title, count = standings.series.title, standings.count
    if not own:
        yield f"{title}: nothing of ours was read, and {counted(count - 1, 'reference')} is known"
    for entry in own[:_MOST_NAMED]:
        if entry.rank_best is None or entry.rank_worst is None:
            yield (
                f"{title}: where {entry.name} stands is not known, for nothing says how much "
                "visits vary"
            )
        else:
            place = place_text(entry.rank_best, entry.rank_worst)
            yield f"{title}: {entry.name} is {place} of {count}"
    if len(own) > _MOST_NAMED:
        yield f"{title}: {len(own) - _MOST_NAMED} more of ours are in the list"


def _table(standings: Standings, *, everything: bool) -> object:
    unit = standings.series.unit
    table = plain_table("", "", unit, "source", "date", "retrieved", right=[unit])
    entries = standings.entries
    shown = range(len(entries)) if everything else _around(entries)
    last = -1
    for n in shown:
        if n != last + 1:
            table.add_row("", f"… {n - last - 1} more", "", "", "", "")
        last = n
        table.add_row(*entry_row(entries[n]))
    if last + 1 < len(entries):
        table.add_row("", f"… {len(entries) - last - 1} more", "", "", "", "")
    return table


def _around(entries: Sequence[Entry]) -> list[int]:
    """The best, and those beside ours."""
    if len(entries) <= _MOST_ROWS:
        return list(range(len(entries)))
    chosen = set(range(_BESIDE))
    for n in (n for n, e in enumerate(entries) if e.reference is None):
        if len(chosen) < _MOST_ROWS:
            chosen |= set(range(max(0, n - _BESIDE), min(len(entries), n + _BESIDE + 1)))
    return sorted(chosen)


def entry_row(entry: Entry) -> list[Text]:
    """Mark, name, value, source and dates of a result; ours are bold."""
    reference = entry.reference
    if reference is None:
        half = (entry.high - entry.low) / 2
        value = significant(entry.value, 4)
        if math.isfinite(half):
            places = decimals_for(half)
            value = f"{grouped(entry.value, places)} ±{grouped(half, places)}"
        return [Text(x, "bold") for x in (OURS, entry.name, value, "measured here", "", "")]
    ends = None
    if reference.low is not None and reference.high is not None:
        ends = (reference.low, reference.high)
    value = reading_text(reference.value, ends, reference.bound or "", 4)
    known = (reference.date or "not known", reference.retrieved or "not known")
    return [Text(x) for x in (ELSEWHERE, reference.device, value, reference.source, *known)]
