"""The overview on a page: a small interval in every cell, each metric on a scale of its own."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.render.grid import MOST_ROWS, GridRow, Shape
from ferocal.render.overview import Overview, shown_series
from ferocal.render.wording import VERDICT_WORDS

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.comparison import Comparison
    from ferocal.render.grid import GridCell

# The share of a cell that is left free on either side of what is drawn.
_FREE = 0.06
# Metrics whose intervals are far narrower than the margin are drawn on the scale of that.
_MARGINS = 1.5


@dataclass(frozen=True)
class Strip:
    """Where the interval, its centre, the margin and no change are, in per cent of a cell."""

    low: float
    high: float
    centre: float
    band: tuple[float, float] | None
    zero: float


@dataclass(frozen=True)
class PageCell:
    """A cell: the words of it, its verdict, and what is drawn, where anything is."""

    name: str
    text: str
    sign: str = ""
    mark: str = ""
    verdict: str = ""
    strip: Strip | None = None


@dataclass(frozen=True)
class PageRow:
    """A row of the overview as in a terminal, with its cells as they are drawn."""

    row: GridRow
    cells: list[PageCell]


@dataclass(frozen=True)
class PageOverview:
    """Rows with their heads, and what stands below them; ``hidden`` counts further metrics."""

    baseline: str
    names: list[str]
    rows: list[PageRow]
    legend: list[str]
    footnotes: list[str]
    hidden: int


def page_overview(comparison: Comparison) -> PageOverview:
    """The overview of a comparison on one bench.

    Of very many metrics those are shown that change most.
    """
    series = shown_series(comparison)
    chosen = series
    if len(series) > MOST_ROWS:
        largest = {
            e.series: abs(e.shift.mean)
            for e in sorted(comparison.effects, key=lambda e: abs(e.shift.mean))
            if e.verdict in CHANGED
        }
        wanted = sorted(series, key=lambda s: -largest.get(s, 0.0))[:MOST_ROWS]
        chosen = [s for s in series if s in set(wanted)]
    overview = Overview(comparison, chosen, Shape(1000))
    rows = []
    for row in overview.rows():
        effects = {n: overview.effect(row.series, n) for n in row.cells} if row.series else {}
        scale = _Scale([e for e in effects.values() if e is not None])
        cells = [_cell(name, cell, effects[name], scale) for name, cell in row.cells.items()]
        rows.append(PageRow(row, cells))
    parts, evidence = overview.legend()
    return PageOverview(
        comparison.baseline,
        overview.names,
        rows,
        [*parts, evidence],
        overview.footnotes,
        len(series) - len(chosen),
    )


class _Scale:
    """The scale of a row: what all of its intervals and its margin take."""

    def __init__(self, effects: Sequence[Effect]) -> None:
        ends = [0.0]
        margins = [margin_on_scale(e.series, e.scale) for e in effects]
        self.margin = margins[0] if margins and math.isfinite(margins[0]) else None
        if self.margin is not None:
            ends += [-_MARGINS * self.margin, _MARGINS * self.margin]
        for e in effects:
            ends += [v for v in (e.shift.low, e.shift.mean, e.shift.high) if math.isfinite(v)]
        self._low, self._span = min(ends), (max(ends) - min(ends)) or 1.0

    def place(self, value: float) -> float:
        """Where a value is, in per cent of the width; the ends for what is beyond them."""
        share = (value - self._low) / self._span
        return (
            100 * (_FREE + (1 - 2 * _FREE) * share)
            if math.isfinite(value)
            else (100.0 if value > 0 else 0.0)
        )

    def strip(self, effect: Effect) -> Strip | None:
        """What is drawn of an effect; nothing where no change is known."""
        shift = effect.shift
        if not math.isfinite(shift.mean):
            return None
        known = not math.isnan(shift.low) and effect.verdict is not Verdict.SEEN_ONCE
        low, high = (shift.low, shift.high) if known else (shift.mean, shift.mean)
        band = None
        if self.margin is not None:
            band = (self.place(-self.margin), self.place(self.margin))
        return Strip(
            self.place(low), self.place(high), self.place(shift.mean), band, self.place(0.0)
        )


def _cell(name: str, cell: GridCell, effect: Effect | None, scale: _Scale) -> PageCell:
    text = " ".join(filter(None, (cell.number, cell.rest)))
    if effect is None:
        return PageCell(name, text, mark=cell.mark)
    verdict = VERDICT_WORDS[effect.verdict].replace(" ", "-")
    return PageCell(name, text, cell.sign, cell.mark, verdict, scale.strip(effect))
