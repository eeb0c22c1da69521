"""The overview chart."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Block, Caveats, Chart, Document, Heading, caveats, next_steps
from ferocal.documents.remarks import doubt_lines
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.answers.answer import Doubts
    from ferocal.answers.chart import RatioChart


def chart_document(charts: tuple[RatioChart, ...]) -> Document:
    """A figure for every bench, and what is not on it."""
    several = len(charts) > 1
    blocks: list[Block] = []
    for chart in charts:
        if several:
            blocks.append(Heading(f"bench {chart.bench}"))
        names = (chart.bench,) if several else ()
        blocks.append(Chart("overview", chart, f"all metrics against {chart.baseline}", names))
    steps = next_steps(("the numbers", "ferocal table"), ("rank them", "ferocal rank"))
    return Document(charts[0].question, (*blocks, *chart_caveats(charts), steps))


def chart_caveats(charts: Sequence[RatioChart]) -> list[Caveats]:
    """What is not drawn, and what limits the comparisons that are."""
    return caveats([*_caveats(charts), *doubt_lines(_doubts(charts))])


def _doubts(charts: Sequence[RatioChart]) -> Doubts:
    effects = (e for chart in charts for e in chart.doubts.effects)
    return replace(charts[0].doubts, effects=tuple(effects))


def _caveats(charts: Sequence[RatioChart]) -> Iterator[str]:
    left = list(dict.fromkeys(s.title for chart in charts for s in chart.left_out))
    if left:
        yield f"not drawn (no ratios): {listed(left)}"
    if any(row.references for chart in charts for row in chart.rows):
        yield "published results have no runs behind them and no verdict uses them"
    bounds = dict.fromkeys(
        row.series.title
        for chart in charts
        for row in chart.rows
        if any(cell.cell.bound for cell in row.cells.values())
    )
    if bounds:
        yield f"no best is marked where readings are bounds: {listed(list(bounds))}"
    cells = [x for c in charts for row in c.rows for x in row.cells.values() if not x.cell.bound]
    if any(math.isnan(cell.low) for cell in cells):
        yield "where the noise between visits is unknown, no difference is shown"
