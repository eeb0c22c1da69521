"""``ferocal table``: what was read."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    show_left_out,
    study_option,
)


@click.command("table")
@study_option
@json_option
@example("ferocal table --json | jq '.cells[0]'")
def command(directory: Path, as_json: bool) -> None:
    """Show what was read: centre, spread, runs.

    Rows are workloads and metrics, columns are configurations. The centre is that of
    the visits' summaries, the spread is the coefficient of variation (CV) of single runs.
    """
    from ferocal.analysis.readings import tabulate
    from ferocal.assemble import gather_directory

    study, evidence = gather_directory(directory)
    rows = tabulate(evidence.readings)
    if as_json:
        from ferocal.report.json_form import cell_objects

        cells = cell_objects(rows)
        question = study.head.question
        print_json(
            {
                "question": question,
                "baseline": study.baseline,
                "excluded": evidence.excluded,
                "cells": cells,
            }
        )
        return
    from ferocal.report.tables import cells_table

    console = make_console()
    names = [configuration.name for configuration in study.configurations]
    console.print(study.head.question, style="bold", end="\n\n")
    console.print(cells_table(rows, names, console))
    show_left_out(console, evidence)
    console.print("centre of the visits, ± CV of single runs, number of runs in brackets")
    console.print(
        f"baseline {study.baseline}; next: `ferocal compare` tells which differences hold"
    )
