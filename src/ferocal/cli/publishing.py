"""What reading commands share: in which format a result goes where."""

from __future__ import annotations

import functools
import importlib
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import click

from ferocal.cli.common import Function, force_option, make_console, say, study_option
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import Role
from ferocal.terms.signs import masked

if TYPE_CHECKING:
    from ferocal.documents.blocks import Document
    from ferocal.documents.objects.base import Object

FORMATS = ("text", "markdown", "html", "json")
# What some commands write besides, for other programs: the format, and the ending of its files.
TABLES = {"csv": ".csv", "junit": ".xml"}
# What a file is by its name, unless --format says so.
_BY_SUFFIX = {".html": "html", ".htm": "html", ".md": "markdown", ".json": "json", ".txt": "text"}
_FIGURES = (".svg", ".png", ".pdf")


@dataclass(frozen=True)
class Publication:
    """In which format a result is written, and where: None is standard output.

    The charts of the document are drawn as ``figure``, where one is named.
    """

    format: str
    output: Path | None
    figure: Path | None
    force: bool

    @property
    def wants_json(self) -> bool:
        """Whether the object is asked for, with everything in it."""
        return self.format == "json"

    @property
    def wants_charts(self) -> bool:
        """Whether figures are drawn."""
        return self.format == "html" or self.figure is not None

    def __call__(
        self, document: Callable[[], Document], make: Callable[[Any], Object] | str, result: Any
    ) -> None:
        """Write a result: its JSON object, by name or made by a function, or its document."""
        plain = self.wants_json or self.format in TABLES
        made = None if plain and self.figure is None else document()
        if self.wants_json:
            from ferocal.media.json import dumps

            made_of = object_named(make).make if isinstance(make, str) else make
            self._write(dumps(made_of(result).model_dump()) + "\n")
        elif self.format in TABLES:
            from ferocal.media.effects import WRITERS

            self._write(WRITERS[self.format](result))
        elif made is not None:
            self._write_document(made, "")
        if made is not None and self.figure is not None:
            self.draw(made)

    def write(self, document: Document, source: str = "") -> None:
        """Write a document; ``source`` says from what it was made."""
        self._write_document(document, source)
        if self.figure is not None:
            self.draw(document)

    def draw(self, document: Document) -> None:
        """Draw the charts of a document."""
        from ferocal.media.figures import save_charts

        assert self.figure is not None
        for path in save_charts(document.blocks, self.figure, force=self.force):
            say(f"wrote {path}", err=self.format != "text")

    def _write_document(self, document: Document, source: str) -> None:
        if self.output is None and self.format == "text":
            show(document)
        elif self.output is None:
            from ferocal.media.pages import document_text

            self._write(document_text(document, self.format, source))
        else:
            from ferocal.media.pages import write_page

            write_page(document, self.format, self.output, source, force=self.force)
            say(f"wrote {self.output}")

    def _write(self, text: str) -> None:
        if self.output is None:
            click.echo(masked(text), nl=False, file=sys.stdout)
            return
        from ferocal.media.files import whole_file

        with whole_file(self.output, force=self.force) as partial:
            partial.write_text(masked(text), encoding="utf-8")
        say(f"wrote {self.output}")


def object_named(name: str) -> Any:
    """The class of a JSON object by its module and name; it is loaded only where JSON is wanted."""
    module, _, kind = name.partition(".")
    return getattr(importlib.import_module(f"ferocal.documents.objects.{module}"), kind)


def show(document: Document) -> None:
    """Print a document in the terminal."""
    from ferocal.media import terminal

    terminal.show(make_console(), document)


def make_publication(
    format: str | None,
    as_json: bool,
    output: Path | None,
    force: bool,
    *,
    default: str = "text",
    tables: bool = False,
) -> Publication:
    """What the options of a command mean together.

    Raises
    ------
    UsageError
        When they contradict each other, or something else is at the place of the file.
    """
    if as_json and format not in (None, "json"):
        raise click.UsageError(f"--json and --format {format} exclude each other")
    chosen = "json" if as_json else format
    if output is None:
        return Publication(chosen or default, None, None, force)
    from ferocal.media.files import check_target

    check_target(output, force=force)  # before anything is computed
    if output.suffix in _FIGURES:
        return Publication(chosen or default, None, output, force)
    by_suffix = {**_BY_SUFFIX, **({s: f for f, s in TABLES.items()} if tables else {})}
    chosen = chosen or by_suffix.get(output.suffix)
    if chosen is None:
        known = ", ".join((*by_suffix, *_FIGURES))
        raise click.UsageError(f"{output}: name the file {known}, or give --format")
    return Publication(chosen, output, None, force)


def reading_command(function: Function, *, tables: bool = False) -> Function:
    """Add the options of all reading commands; they get ``directory`` and ``publish``.

    With ``tables`` the effects can be written for other programs too.
    """

    @functools.wraps(function)
    def command(**options: Any) -> Any:
        chosen = (options.pop(name) for name in ("format", "as_json", "output", "force"))
        return function(publish=make_publication(*chosen, tables=tables), **options)

    formats = click.option(
        "--format",
        type=click.Choice((*FORMATS, *TABLES)),
        help="Format of the output.  [text, or by FILE]",
    )
    for option in _OPTIONS[::-1]:
        command = (formats if tables and option is format_option else option)(command)
    return command  # type: ignore[return-value]


def effects_command(function: Function) -> Function:
    """A reading command whose effects can be written as CSV or as JUnit XML."""
    return reading_command(function, tables=True)


output_option = click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write to FILE: .html, .md, .json, .txt; or draw it: .svg, .png, .pdf.",
)
format_option = click.option(
    "--format", type=click.Choice(FORMATS), help="Format of the output.  [text, or by FILE]"
)
_OPTIONS = (
    study_option,
    format_option,
    click.option("--json", "as_json", is_flag=True, help="Short for --format json."),
    output_option,
    force_option,
)

_SELECTIONS = {
    "metric": "Only this metric.",
    "workload": "Only this workload.",
    "configuration": "Only this configuration.",
    "bench": "Only this bench.",
    "role": "Only metrics of this role.",
    "group": "Only workloads of this group.",
}


def selection_options(*names: str) -> Callable[[Function], Function]:
    """Add options that limit what is shown; they may be repeated.

    The command gets them together, as ``selection``.
    """

    def decorate(function: Function) -> Function:
        @functools.wraps(function)
        def command(**options: Any) -> Any:
            from ferocal.answers.selection import Selection

            wanted = {_plural(name): options.pop(_plural(name)) for name in names}
            return function(selection=Selection(**wanted), **options)

        for name in names[::-1]:
            kind = click.Choice(get_args(Role)) if name == "role" else None
            command = click.option(
                f"--{name}",
                _plural(name),
                multiple=True,
                type=kind,
                metavar=None if kind else "NAME",
                help=_SELECTIONS[name],
            )(command)
        return command  # type: ignore[return-value]

    return decorate


def _plural(name: str) -> str:
    return "benches" if name == "bench" else f"{name}s"


against_option = click.option(
    "--against", metavar="NAME", help="Use this configuration as the baseline."
)
