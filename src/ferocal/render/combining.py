"""How studies go together, as text: what is the same, what is new, what contradicts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.console import show_beside
from ferocal.render.tables import plain_table
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.intake.combining import Brought
    from ferocal.study.combining import CombinedStudy, Match, SourceMap

_MOST_ROWS = 30


def show_combination(console: Console, combined: CombinedStudy) -> None:
    """Print what everything is called in the combined study, and what to mind."""
    table = plain_table("study", "kind", "there", "here", "")
    rows = [(source, entry) for source in combined.sources for entry in source.entries]
    for source, entry in rows[:_MOST_ROWS]:
        table.add_row(*_row(source, entry))
    if len(rows) > _MOST_ROWS:
        table.add_row("", f"… {len(rows) - _MOST_ROWS} more", "", "", "")
    console.print(table)
    for source in combined.sources:
        for factor, level in source.levels.items():
            console.print(f"{source.study.directory}: all of it with {factor}={level}")
    show_beside(console, "mind", list(combined.conflicts))


def _row(source: SourceMap, entry: Match) -> list[str]:
    how = "new" if entry.new else "the same as before"
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
