"""``ferocal soak``: values over a long time, compared."""

from __future__ import annotations

from typing import Any

import click

from ferocal.cli.common import example
from ferocal.cli.traces import publish_kind, trace_command


@click.command("soak")
@trace_command
@click.option("--detail", is_flag=True, help="Every part of the traces, not only what decides.")
@example("ferocal soak -o soak.svg")
def command(**options: Any) -> None:
    """Compare soaks: falls, rises, and sessions.

    A fall or a rise is a step of 7 % or more between minutes; a slow drift is none. The main event
    is the one that costs most over the time: its time is the onset of throttling, and how much of
    it comes back is told. Peak and minimum are medians of ten seconds; "sustained" is the last
    quarter of the time over the first. Sessions are of the lengths that the study file asks for as
    short and long, else of 10 min and the whole. A chart (-o soak.svg) has a figure of all soaks on
    one axis of time, with what else was read beneath.
    """
    publish_kind("soak", **options)
