"""``ferocal table``: what was read."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    selection_options,
    show_left_out,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.comparison import Selection
    from ferocal.opened import OpenedStudy


@click.command("table")
@study_option
@json_option
@click.option("--runs", is_flag=True, help="Single readings in the order of time.")
@selection_options
@example("ferocal table --runs --workload dome-flight")
def command(
    directory: Path,
    as_json: bool,
    runs: bool,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    metrics: tuple[str, ...],
) -> None:
    """Show what was read: centre, spread, runs.

    Rows are workloads and metrics, columns are configurations. The centre is that of
    the visits' summaries, the spread is the coefficient of variation (CV) of single runs.

    With --runs every single reading in the order of time, with its round, as a mark on a
    common scale, so that drift, outliers and modes can be seen. Runs that failed or are
    excluded stand among them, with the reason.
    """
    import ferocal
    from ferocal.comparison import Selection

    opened = ferocal.open(directory)
    selection = Selection(configurations, workloads, metrics)
    selection.check(opened.study)
    show = _show_runs if runs else _show_cells
    show(opened, selection, as_json)


def _show_cells(opened: OpenedStudy, selection: Selection, as_json: bool) -> None:
    from ferocal.analysis.cells import select_cells, tabulate
    from ferocal.report.json_form import cell_objects
    from ferocal.report.tables import cells_table

    study, evidence = opened.study, opened.evidence()
    rows = select_cells(tabulate(evidence.readings), selection.wants)
    if as_json:
        head = {"question": study.head.question, "baseline": study.baseline}
        print_json({**head, "excluded": evidence.excluded, "cells": cell_objects(rows)})
        return
    console = make_console()
    names = [configuration.name for configuration in study.configurations]
    console.print(study.head.question, style="bold", end="\n\n")
    console.print(cells_table(rows, names, console))
    show_left_out(console, evidence)
    console.print("centre of the visits, ± CV of single runs, number of runs in brackets")
    console.print(
        f"baseline {study.baseline}; next: `ferocal compare` tells which differences hold"
    )


def _show_runs(opened: OpenedStudy, selection: Selection, as_json: bool) -> None:
    from ferocal.report.timeline import timeline

    timed = opened.timed_readings(selection)
    if as_json:
        print_json(
            {
                "readings": [
                    {
                        "workload": series.workload,
                        "metric": series.metric,
                        "unit": series.unit,
                        **vars(row),
                    }
                    for series, rows in timed.items()
                    for row in rows
                ]
            }
        )
        return
    console = make_console()
    console.print(opened.study.head.question, style="bold", end="\n\n")
    console.print(timeline(timed, chart=console.width >= 90))
    console.print("next: `ferocal exclude` marks runs that have a cause to be left out")
