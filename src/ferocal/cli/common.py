"""What commands share: options, the console, JSON."""

from __future__ import annotations

import inspect
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ferocal.terms.bounds import MOST_ROUNDS, MOST_SAMPLES
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
    help="Directory of the study.  [current directory]",
)


def _not_empty(context: click.Context, parameter: click.Parameter, value: str) -> str:
    if not value.strip():
        raise click.BadParameter("must not be empty: say why")
    return value


reason_option = click.option(
    "--reason",
    required=True,
    callback=_not_empty,
    metavar="TEXT",
    help="Why (required; listed by `ferocal runs` and `compare --detail`).",
)
force_option = click.option(
    "--force", is_flag=True, help="Overwrite a file that Ferocal did not write."
)


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
    from ferocal.media import console

    return console.make_console(stderr=stderr)


def print_json(document: Any) -> None:
    """Print a document as JSON."""
    from ferocal.media.json import dumps

    click.echo(masked(dumps(document)))
