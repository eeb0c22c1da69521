"""``ferocal soak``: values over a long time, compared."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, json_option, study_option
from ferocal.cli.traces import chart_option, show_traces


@click.command("soak")
@study_option
@json_option
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@click.option("--configuration", "configurations", multiple=True, metavar="NAME", help="Only it.")
@click.option("--workload", "workloads", multiple=True, metavar="NAME", help="Only this workload.")
@chart_option
@example("ferocal soak --chart soak.svg")
def command(
    directory: Path,
    as_json: bool,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    chart: Path | None,
) -> None:
    """Show soaks: peak, floor, last quarter, onset of throttling.

    Peak and floor are medians of ten seconds; "sustained" is the last quarter of the time over
    the first. Throttling sets in where the level drops by a tenth or more at once; a slow
    drift is none. With --chart a figure of all soaks on one axis of time.
    """
    show_traces(
        directory,
        "soak",
        against=against,
        configurations=configurations,
        workloads=workloads,
        chart=chart,
        as_json=as_json,
    )
