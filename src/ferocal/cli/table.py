"""``ferocal table``: what was read."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    selection_options,
    study_option,
)


@click.command("table")
@study_option
@json_option
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="Metrics that are details or context too.")
@example("ferocal table --workload dome-flight")
def command(
    directory: Path,
    as_json: bool,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    metrics: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    detail: bool,
) -> None:
    """Show what was read: centre, spread, runs.

    Rows are workloads and metrics, columns are configurations. The centre is that of
    the visits' summaries, the spread is the coefficient of variation (CV) of single runs.
    `ferocal runs` lists the single runs.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.table import show_table

    selection = Selection(configurations, workloads, metrics, benches, roles, groups)
    table = ferocal.open(directory).table(selection)
    if as_json:
        from ferocal.render.documents import TABLE

        print_json(TABLE.make(table))
    else:
        show_table(make_console(), table, everything=detail)
