"""How studies go together: what is the same, what is new, what contradicts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Document, caveats, make_table, sentences
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.intake.combining import Brought
    from ferocal.study.combining import CombinedStudy, Match, SourceMap

_MOST_ROWS = 30


def combination_document(combined: CombinedStudy) -> Document:
    """What everything is called in the combined study, and what contradicts."""
    entries = [(source, entry) for source in combined.sources for entry in source.entries]
    more = len(entries) - _MOST_ROWS
    whole = [
        f"{source.study.directory}: all of it with {factor}={level}"
        for source in combined.sources
        for factor, level in source.levels.items()
    ]
    return Document(
        "",
        (
            make_table(
                ("study", "kind", "there", "here", ""),
                [_row(source, entry) for source, entry in entries[:_MOST_ROWS]],
                caption=f"{more} more" if more > 0 else "",
            ),
            *([sentences(whole)] if whole else []),
            *caveats(combined.conflicts),
        ),
    )


def _row(source: SourceMap, entry: Match) -> list[str]:
    how = "new" if entry.new else "same"
    if entry.name != entry.target:
        how += ", renamed"
    return [str(source.study.directory), entry.kind, entry.name, entry.target, how]


def brought_lines(brought: Sequence[Brought]) -> list[str]:
    """What each study has brought."""
    lines = []
    for b in brought:
        text = f"{b.directory}: {counted(b.runs, 'run')} of {counted(b.visits, 'visit')}"
        if b.known_runs:
            text += f"; {b.known_runs} were there already"
        lines.append(text)
    return lines
