"""What commands share: options, the console, JSON."""

from __future__ import annotations

import inspect
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, get_args

import click

from ferocal.terms.bounds import MOST_ROUNDS, MOST_SAMPLES
from ferocal.terms.roles import Role
from ferocal.terms.signs import masked, visible

if TYPE_CHECKING:
    from rich.console import Console

ROUND = click.IntRange(1, MOST_ROUNDS)
SAMPLES = click.IntRange(1, MOST_SAMPLES)
Function = TypeVar("Function", bound=Callable[..., Any])

study_option = click.option(
    "--study",
    "directory",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path(),
    metavar="DIR",
    help="The study's directory.  [default: the current one]",
)


def _not_empty(context: click.Context, parameter: click.Parameter, value: str) -> str:
    if not value.strip():
        raise click.BadParameter("is empty; say why")
    return value


reason_option = click.option(
    "--reason",
    required=True,
    callback=_not_empty,
    metavar="TEXT",
    help="Why (required; shown by `ferocal runs` and `compare --detail`).",
)
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
force_option = click.option(
    "--force", is_flag=True, help="Write over a file that is no output of Ferocal."
)
_SELECTIONS = {
    "metric": "Only this metric.",
    "workload": "Only this workload.",
    "configuration": "Only this configuration.",
    "bench": "Only this bench.",
    "role": "Only metrics of this role.",
    "group": "Only workloads of this group.",
}
_DEFAULTS = ("metric", "workload", "configuration", "bench")


def selection_options(*names: str) -> Callable[[Function], Function]:
    """Add options that limit what is shown, all unless named; they may be repeated.

    The command gets them as tuples, such as ``metrics``.
    """

    def decorate(function: Function) -> Function:
        for name in names or _DEFAULTS:
            plural = "benches" if name == "bench" else f"{name}s"
            kind = click.Choice(get_args(Role)) if name == "role" else None
            option = click.option(
                f"--{name}",
                plural,
                multiple=True,
                type=kind,
                metavar=None if kind else "NAME",
                help=_SELECTIONS[name],
            )
            function = option(function)
        return function

    return decorate


def example(text: str) -> Callable[[Function], Function]:
    """Add an example to the help of a command."""

    def decorate(function: Function) -> Function:
        # Cleaned first: an example that is not indented would hide the docstring's margin.
        function.__doc__ = f"{inspect.cleandoc(function.__doc__ or '')}\n\nExample: {text}"
        return function

    return decorate


def say(text: str, *, err: bool = False) -> None:
    """Print a line, in which names and reasons of the user may be."""
    # Named, for otherwise a stream in plain ASCII would be written in UTF-8 nevertheless.
    click.echo(visible(text), file=sys.stderr if err else sys.stdout)


def make_console(*, stderr: bool = False) -> Console:
    """The console that everything is printed on; loaded when used."""
    from ferocal.render import console

    return console.make_console(stderr=stderr)


def print_json(document: Any) -> None:
    """Print a document as JSON."""
    from ferocal.render.json_text import dumps

    click.echo(masked(dumps(document)))
