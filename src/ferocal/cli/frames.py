"""``ferocal frames``: frame times, compared."""

from __future__ import annotations

from typing import Any

import click

from ferocal.cli.common import example
from ferocal.cli.traces import publish_kind, trace_command


@click.command("frames")
@trace_command
@example("ferocal frames -o frames.svg")
def command(**options: Any) -> None:
    """Compare frame times: average rate, lows, stutters.

    The average rate is frames over total time. The 1 % low is the rate at the 99th
    percentile of frame time, the 0.1 % low that at the 99.9th; "slowest-1%" is the rate of the
    slowest hundredth together. The run is the unit: frames of one run are not independent.
    A chart (-o frames.svg) has a figure of the tail of frame times and of their course.
    """
    publish_kind("frames", **options)
