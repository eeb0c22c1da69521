"""``ferocal table``: the readings as a table."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.command("table")
@reading_command
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="Include metrics of the roles detail and context.")
@example("ferocal table --workload dome-flight")
def command(publish: Publication, directory: Path, selection: Selection, detail: bool) -> None:
    """Show the readings: centre, spread, runs, and the best of each row.

    Rows are workloads and metrics, columns are configurations. The centre is that of the visit
    summaries, the spread is the coefficient of variation (CV) of single runs. The best of a row
    is marked, and so are its statistical ties. `ferocal runs` lists the single runs.
    """
    import ferocal
    from ferocal.documents.table import table_document

    table = ferocal.open(directory).table(selection)
    publish(lambda: table_document(table, everything=detail), "table.TableObject", table)
