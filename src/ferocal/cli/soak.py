"""``ferocal soak``: values over a long time, compared."""

from __future__ import annotations

from typing import Any

import click

from ferocal.cli.common import example
from ferocal.cli.traces import show_kind, trace_options


@click.command("soak")
@trace_options
@example("ferocal soak --chart soak.svg")
def command(**options: Any) -> None:
    """Show soaks: peak, minimum, last quarter, onset of throttling.

    Peak and minimum are medians of ten seconds; "sustained" is the last quarter of the time over
    the first. Throttling sets in where the level drops by a tenth or more at once; a slow
    drift is none. With --chart a figure of all soaks on one axis of time.
    """
    show_kind("soak", **options)
