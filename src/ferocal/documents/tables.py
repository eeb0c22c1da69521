"""Cells and series in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

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
