"""Our results among published ones: where ours stand, and what is near them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import (
    Block,
    Document,
    GridCell,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.numbers import decimals_for, reading_text
from ferocal.documents.rank import place_text
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.answers.references import Entry, ReferenceAnswer, Standings

OURS, ELSEWHERE = "\N{BLACK DIAMOND}", "\N{WHITE DIAMOND}"
# Around ours so many others are shown, and as many of the best.
_BESIDE = 3
_MOST_ROWS = 20
_MOST_NAMED = 4


def references_document(answer: ReferenceAnswer, *, everything: bool = False) -> Document:
    """Where ours stand by every metric, and the list of results around that."""
    blocks: list[Block] = []
    for standings in answer.standings:
        blocks += [sentences(stand_lines(standings)), _table(standings, everything=everything)]
    if not answer.standings:
        blocks.append(sentences(["no reference is of a metric that was asked for"]))
    text = (
        f"{ELSEWHERE} published elsewhere: no runs are behind it and no verdict uses it; hardware, "
    )
    text += "versions and methods may differ"
    steps = next_steps(
        ("all of them", "ferocal reference --all"), ("some", "ferocal reference --search TEXT")
    )
    return Document(answer.question, (*blocks, *caveats([text]), steps))


def stand_lines(standings: Standings) -> Iterator[str]:
    """Where ours stand among the references, in sentences."""
    own = [e for e in standings.entries if e.reference is None]
    title, count = standings.series.title, standings.count
    if not own:
        yield f"{title}: none of our readings; {counted(count - 1, 'reference')}"
    for entry in own[:_MOST_NAMED]:
        if entry.rank_best is None or entry.rank_worst is None:
            yield f"{title}: the rank of {entry.name} is unknown, as is the noise between visits"
        else:
            place = place_text(entry.rank_best, entry.rank_worst)
            yield f"{title}: {entry.name} is {place} of {count}"
    if len(own) > _MOST_NAMED:
        yield f"{title}: {len(own) - _MOST_NAMED} more of ours are in the list"


def _table(standings: Standings, *, everything: bool) -> Table:
    unit = standings.series.unit
    entries = standings.entries
    rows: list[Sequence[str | GridCell]] = []
    last = -1
    for n in range(len(entries)) if everything else _around(entries):
        if n != last + 1:
            rows.append(_left_out(n - last - 1))
        last = n
        rows.append(entry_row(entries[n]))
    if last + 1 < len(entries):
        rows.append(_left_out(len(entries) - last - 1))
    return make_table(("", "", unit, "source", "date", "retrieved"), rows, right=[unit])


def _left_out(count: int) -> list[str]:
    return ["", f"… {count} more", "", "", "", ""]


def _around(entries: Sequence[Entry]) -> list[int]:
    """The best, and those beside ours."""
    if len(entries) <= _MOST_ROWS:
        return list(range(len(entries)))
    chosen = set(range(_BESIDE))
    for n in (n for n, e in enumerate(entries) if e.reference is None):
        if len(chosen) < _MOST_ROWS:
            chosen |= set(range(max(0, n - _BESIDE), min(len(entries), n + _BESIDE + 1)))
    return sorted(chosen)


def entry_row(entry: Entry) -> list[GridCell]:
    """Mark, name, value, source and dates of a result; ours are bold."""
    reference = entry.reference
    if reference is None:
        half = (entry.high - entry.low) / 2
        value = significant(entry.value, 4)
        if math.isfinite(half):
            places = decimals_for(half)
            value = f"{grouped(entry.value, places)} ±{grouped(half, places)}"
        return [
            GridCell(x, strong=True) for x in (OURS, entry.name, value, "measured here", "", "")
        ]
    ends = None
    if reference.low is not None and reference.high is not None:
        ends = (reference.low, reference.high)
    value = reading_text(reference.value, ends, reference.bound or "", 4)
    known = (reference.date or "unknown", reference.retrieved or "unknown")
    return [GridCell(x) for x in (ELSEWHERE, reference.device, value, reference.source, *known)]
