"""What commands share: options, the console, opening a study."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    from rich.console import Console

    from ferocal.evidence import Evidence

Function = TypeVar("Function", bound=Callable[..., Any])

study_option = click.option(
    "--study",
    "directory",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path(),
    metavar="DIR",
    help="The study's directory.  [default: the current one]",
)
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")


def selection_options(function: Function) -> Function:
    """Add options that limit what is shown; they may be repeated."""
    for name, what in (
        ("metric", "Only this metric."),
        ("workload", "Only this workload."),
        ("configuration", "Only this configuration."),
    ):
        option = click.option(f"--{name}", f"{name}s", multiple=True, metavar="NAME", help=what)
        function = option(function)
    return function


def example(text: str) -> Callable[[Function], Function]:
    """Add an example to the help of a command."""

    def decorate(function: Function) -> Function:
        function.__doc__ = f"{function.__doc__}\n\nExample: {text}"
        return function

    return decorate


def make_console(*, stderr: bool = False) -> Console:
    """A console that is plain and 100 columns wide unless it is a terminal."""
    from rich.console import Console

    stream = sys.stderr if stderr else sys.stdout
    # Names and outputs are the user's: square brackets in them are no markup.
    if stream.isatty():
        return Console(stderr=stderr, highlight=False, markup=False, emoji=False)
    width = os.environ.get("COLUMNS", "")
    return Console(
        stderr=stderr,
        highlight=False,
        markup=False,
        emoji=False,
        width=int(width) if width.isdecimal() else 100,
        no_color=True,
    )


def show_left_out(console: Console, evidence: Evidence) -> None:
    """Say how much of what was recorded does not count."""
    if evidence.excluded:
        console.print(
            f"excluded runs: {evidence.excluded}; `ferocal readings --excluded` lists them"
        )
    if evidence.left_out:
        console.print(
            f"{evidence.left_out} readings of workloads, metrics or configurations that the "
            "study file no longer names are left out"
        )


def print_json(document: Any) -> None:
    """Print a document as JSON."""
    from ferocal.report.json_form import dumps

    click.echo(dumps(document))
