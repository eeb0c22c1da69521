"""A table of readings as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich.console import Console

from ferocal.render.gaps import gap_objects, legend
from ferocal.render.remarks import show_remarks
from ferocal.render.tables import cells_table

if TYPE_CHECKING:
    from ferocal.answers.table import ReadingsTable


def show_table(console: Console, table: ReadingsTable) -> None:
    """Print the table, one bench after the other, with what it shows."""
    console.print(table.question, style="bold", end="\n\n")
    show_cells(console, table)
    show_remarks(console, table)
    console.print("centre of the visits, ± CV of single runs, number of runs in brackets")
    console.print(f"baseline {table.baseline}; next: `ferocal compare` says which differences hold")


def show_cells(console: Console, table: ReadingsTable) -> None:
    """Print the cells alone."""
    for bench, rows in table.cells.items():
        if len(table.cells) > 1:
            console.print(f"bench {bench}", style="bold")
        console.print(cells_table(rows, table.configurations, table.gaps, console))
    if table.gaps:
        console.print(legend(table.gaps))


def table_object(table: ReadingsTable) -> dict[str, Any]:
    """The object that `ferocal table --json` prints."""
    return {
        "question": table.question,
        "baseline": table.baseline,
        "excluded": table.excluded,
        "left_out": table.left_out,
        "criteria_changed": [change.text for change in table.criteria_changes],
        "cells": cell_objects(table),
        "gaps": gap_objects(table.gaps),
    }


def cell_objects(table: ReadingsTable) -> list[dict[str, Any]]:
    """One object per bench, series and configuration that has readings."""
    return [
        {
            "bench": cell.bench,
            "workload": cell.series.workload,
            "metric": cell.series.metric,
            "unit": cell.series.unit,
            "better": cell.series.better,
            "configuration": cell.configuration,
            "centre": cell.centre,
            "cv": cell.cv,
            "runs": cell.runs,
            "rounds": cell.rounds,
            "low": None if cell.span is None else cell.span[0],
            "high": None if cell.span is None else cell.span[1],
            "bound": cell.bound,
            "bounds_left_out": cell.bounds,
        }
        for rows in table.cells.values()
        for row in rows
        for cell in row
        if cell is not None
    ]
