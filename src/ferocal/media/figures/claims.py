"""The figure of claims: what was found beside what was claimed, each on its own scale."""

from __future__ import annotations

import math
import textwrap
from typing import TYPE_CHECKING

from matplotlib.figure import Figure

from ferocal.analysis.inference.claims import ClaimVerdict
from ferocal.documents.charts import claim_numbers, claim_unit
from ferocal.documents.claims import found_text
from ferocal.media.figures.style import (
    BAND,
    COLOURS,
    INK,
    PAPER,
    Size,
    note_below,
    plain_axes,
    title_of,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ferocal.answers.claims import ClaimFinding, ClaimsAnswer

_LOOKS = {
    ClaimVerdict.SUPPORTED: ("^", COLOURS[0], True),
    ClaimVerdict.REFUTED: ("v", COLOURS[1], True),
    ClaimVerdict.UNDECIDED: ("o", INK, False),
}
# More claims than this cannot be read on one page.
_MOST = 10
_WIDTH = 44  # of the text of a claim, in signs


def draw(answer: ClaimsAnswer, size: Size = None) -> Figure:
    """A panel for every claim: the claimed range shaded, the interval, and the verdict."""
    shown = answer.findings[:_MOST]
    figure = Figure(figsize=size or (12.8, 0.9 + 1.05 * len(shown)), layout="constrained")
    title_of(figure, answer.question)
    grid = figure.subplots(len(shown), 1, squeeze=False)[:, 0]
    for axes, finding in zip(grid, shown, strict=True):
        _draw(axes, finding)
    left = [finding.name for finding in answer.findings[_MOST:]]
    more = f"; not drawn: {', '.join(left)}" if left else ""
    text = f"shaded: as claimed; lines: 95 % intervals or bounds{more}"
    note_below(figure, text)
    return figure


def _draw(axes: Axes, finding: ClaimFinding) -> None:
    mark, colour, filled = _LOOKS[finding.judged.verdict]
    ends, (low, mean, high) = claim_numbers(finding)
    known = [x for x in (*ends, low, mean, high) if math.isfinite(x)]
    nil = [0.0] if finding.kind == "change" else []
    left, right = min([*known, *nil], default=0.0), max([*known, *nil], default=1.0)
    room = 0.18 * (right - left or abs(right) or 1.0)
    axes.set_xlim(left - room, right + room)
    axes.set_ylim(-1, 1)
    begin, end = (
        x if math.isfinite(x) else edge for x, edge in zip(ends, axes.get_xlim(), strict=True)
    )
    axes.axvspan(begin, end, color=BAND, lw=0, zorder=1)
    for edge in nil:
        axes.axvline(edge, color=INK, lw=1.0, zorder=2)
    if not math.isnan(low):
        begin, end = max(low, left - room), min(high, right + room)
        axes.hlines(0, begin, end, color=colour, lw=3, alpha=0.5, zorder=3)
    if math.isfinite(mean):
        face = colour if filled else PAPER
        axes.plot(mean, 0, mark, ms=8, mec=colour, mfc=face, mew=1.3, zorder=4)
    says = textwrap.fill(f'{finding.name}: "{finding.claim.says}"', _WIDTH, max_lines=3)
    axes.set_yticks([0], [says], fontsize=9)
    axes.tick_params(axis="y", length=0)
    beside = axes.twinx()
    beside.set_ylim(-1, 1)
    verdict = f"{finding.judged.verdict}\n{textwrap.fill(found_text(finding), 34)}"
    beside.set_yticks([0], [verdict], fontsize=9)
    beside.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        beside.spines[side].set_visible(False)
    axes.set_xlabel(claim_unit(finding), fontsize=8.5, loc="right", labelpad=1)
    axes.tick_params(axis="x", labelsize=8.5)
    plain_axes(axes)
    axes.grid(axis="y", visible=False)
