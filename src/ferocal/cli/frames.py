"""``ferocal frames``: frame times, compared."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, json_option, study_option
from ferocal.cli.traces import chart_option, show_traces


@click.command("frames")
@study_option
@json_option
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@click.option("--configuration", "configurations", multiple=True, metavar="NAME", help="Only it.")
@click.option("--workload", "workloads", multiple=True, metavar="NAME", help="Only this workload.")
@chart_option
@example("ferocal frames --chart frames.png")
def command(
    directory: Path,
    as_json: bool,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    chart: Path | None,
) -> None:
    """Show frame times: average rate, lows, stutters.

    The average rate is frames over total time. The 1 % low is the rate at the 99th
    percentile of frame time, the 0.1 % low that at the 99.9th; "slowest-1%" is the rate of the
    slowest hundredth together. The run is the unit: frames of one run are not independent.
    With --chart a figure of the tail of frame times and of their course.
    """
    show_traces(
        directory,
        "frames",
        against=against,
        configurations=configurations,
        workloads=workloads,
        chart=chart,
        as_json=as_json,
    )
