"""Cells and series in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.data.gaps import Gap
from ferocal.documents.gaps import GAP_SIGNS
from ferocal.documents.numbers import percent, reading_text
from ferocal.terms.numbers import significant
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Effect


def series_label(series: Series) -> str:
    """Metric with unit and direction, such as "load-time, s, lower is better"."""
    plain = series.metric.rpartition("/")[2]
    called = f" ({series.label})" if series.label and series.label != plain else ""
    return f"{series.metric}{called}, {series.unit}, {direction(series.better)}"


def direction(better: str) -> str:
    """Which way is better, in words."""
    return "not judged" if better == "none" else f"{better} is better"


def group_by_series(effects: Sequence[Effect]) -> list[list[Effect]]:
    """Effects of the same series together, in order of first appearance."""
    groups: dict[Series, list[Effect]] = {}
    for effect in effects:
        groups.setdefault(effect.series, []).append(effect)
    return list(groups.values())


def cell_text(cell: Cell | Gap | None, separator: str = " ") -> str:
    """Centre, spread and number of runs, such as "58.2 ±1.3 % (15)"; why there is none.

    Of a single reading there is no spread; ranges have their ends, bounds their sign.
    """
    if cell is None:
        return "–"
    if isinstance(cell, Gap):
        return GAP_SIGNS[cell.mark]
    spread = spread_text(cell)
    return f"{centre_text(cell)}{separator}{spread}{' ' if spread else ''}({cell.runs})"


def centre_text(cell: Cell) -> str:
    """The centre of a cell, as a range or a bound where that is what was read."""
    alone = cell.runs == 1 or cell.span is not None or cell.bound is not None
    text = significant(cell.centre)
    if alone:
        text = reading_text(cell.centre, cell.span, cell.bound or "", 4)
    if cell.bounds:
        text += f", {counted(cell.bounds, 'bound')} beside"
    return text


def short_centre(cell: Cell) -> str:
    """The centre of a cell alone; of a single reading as it was made."""
    if cell.runs == 1 or cell.bound is not None:
        return reading_text(cell.centre, cell.span, cell.bound or "", 4)
    return significant(cell.centre)


def spread_text(cell: Cell) -> str:
    """The coefficient of variation of single runs; nothing where it is unknown."""
    if cell.bound or math.isnan(cell.cv):
        return ""
    return "all equal" if cell.cv == 0 else f"±{percent(cell.cv)}"


def bounds_note(cell: Cell) -> str:
    """What a footnote says of the bounds beside the readings of a cell."""
    return f"{counted(cell.bounds, 'reading')} beside {be(cell.bounds)} only a bound"


def with_gaps(
    row: Sequence[Cell | None], gaps: Sequence[Gap], names: Sequence[str]
) -> list[Cell | Gap | None]:
    """The cells of a row, and in the place of each that is missing what is known of that."""
    first = next(cell for cell in row if cell is not None)
    place = (first.bench, first.series.workload, first.series.metric)
    known = {
        gap.configuration: gap for gap in gaps if (gap.bench, gap.workload, gap.metric) == place
    }
    return [
        known.get(name) if cell is None else cell for cell, name in zip(row, names, strict=True)
    ]
