"""What ``ferocal table --json``, ``frames --json`` and ``soak --json`` print."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.documents.changes import criteria_text
from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.compare import EffectObject
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    EXCLUDED,
    LEFT_OUT,
    CellObject,
    GapObject,
)

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.answers.table import ReadingsTable
    from ferocal.answers.traces import TraceAnswer


def _cells(table: ReadingsTable) -> list[Cell]:
    """The cells of a table that are not empty, in order."""
    return [c for rows in table.cells.values() for row in rows for c in row if c is not None]


def _trace_cells(answer: TraceAnswer) -> list[Cell]:
    return _cells(answer.table)


def _trace_changes(answer: TraceAnswer) -> list[str]:
    return [criteria_text(change) for change in answer.comparison.criteria_changes]


class TableObject(Object):
    """`ferocal table --json`."""

    question: str = key("the question of the study")
    baseline: str = key("the baseline of the study")
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    criteria_changed: list[str] = CRITERIA_CHANGED
    cells: list[CellObject] = key("what was read", _cells)
    gaps: list[GapObject] = key("cells without a reading")


class TraceObject(Object):
    """`ferocal frames --json`, `ferocal soak --json`."""

    baseline: str = key(
        "the configuration that the others are compared with", "comparison.baseline"
    )
    criteria_changed: list[str] = key("sentences on criteria that were changed", _trace_changes)
    cells: list[CellObject] = key("what was read", _trace_cells)
    effects: list[EffectObject] = key(
        "of the metrics that are made of traces", "comparison.effects"
    )
