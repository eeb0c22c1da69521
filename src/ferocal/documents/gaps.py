"""Gaps: cells without a reading, as marks with a legend, as lines and as JSON objects."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.analysis.data.gaps import Gap, GapMark
from ferocal.terms.wording import counted, listed

GAP_SIGNS = {
    GapMark.IMPOSSIBLE: "\N{MULTIPLICATION SIGN}",
    GapMark.NOT_ACTIVE: "\N{EMPTY SET}",
    GapMark.FAILED: "!",
    GapMark.ABSENT: "n/a",
    GapMark.NOT_MEASURED: "\N{MIDDLE DOT}",
}
_MOST_LINES = 6
_MOST_NAMED = 4


def legend(gaps: Sequence[Gap]) -> str:
    """What the signs of these gaps mean, in one line; "" without any."""
    present = {gap.mark for gap in gaps}
    return ", ".join(f"{sign} {mark}" for mark, sign in GAP_SIGNS.items() if mark in present)


def gap_lines(gaps: Sequence[Gap], baseline: str) -> list[str]:
    """What could not be compared and why, those of one reason together."""
    groups: dict[tuple[str, GapMark, str], list[Gap]] = {}
    for gap in gaps:
        groups.setdefault((gap.configuration, gap.mark, gap.reason), []).append(gap)
    lines = []
    for (name, mark, reason), members in groups.items():
        metrics = [f"{gap.workload} {gap.metric}" for gap in members]
        if len(metrics) > _MOST_NAMED:
            metrics = [*metrics[:_MOST_NAMED], f"{len(metrics) - _MOST_NAMED} more"]
        why = f"{mark}, {reason}" if reason else str(mark)
        if name == baseline:
            lines.append(f"no effects on {listed(metrics)}: no reading with {name}, {why}")
        else:
            lines.append(f"no effect of {name} on {listed(metrics)}: {why}")
    if len(lines) > _MOST_LINES:
        more = counted(len(lines) - _MOST_LINES, "more gap")
        return [*lines[:_MOST_LINES], f"{more}, which --json lists"]
    return lines
