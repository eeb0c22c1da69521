"""``ferocal soak``: values over a long time, compared."""

from __future__ import annotations

from typing import Any

import click

from ferocal.cli.common import example
from ferocal.cli.traces import publish_kind, trace_command


@click.command("soak")
@trace_command
@example("ferocal soak -o soak.svg")
def command(**options: Any) -> None:
    """Compare soaks: peak, minimum, last quarter, onset of throttling.

    Peak and minimum are medians of ten seconds; "sustained" is the last quarter of the time over
    the first. Throttling sets in where the level drops by a tenth or more in one step; a slow
    drift does not count. A chart (-o soak.svg) has a figure of all soaks on one axis of time.
    """
    publish_kind("soak", **options)
