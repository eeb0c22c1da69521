"""How a file of readings is written: options that `new` and `load` share."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ferocal.cli.common import say
from ferocal.cli.publishing import show

if TYPE_CHECKING:
    from ferocal.intake.tables.options import TableOptions
    from ferocal.study.load import Study

Function = TypeVar("Function", bound=Callable[..., Any])

_OPTIONS = (
    click.option(
        "--column",
        "columns",
        multiple=True,
        metavar="ROLE=NAME",
        help='What a column is, such as "configuration=OS"; NAME may be SHEET or FILE.',
    ),
    click.option(
        "--across",
        type=click.Choice(["configuration", "metric", "workload", "run"]),
        help="What the columns of values are called for.",
    ),
    click.option(
        "--ignore", multiple=True, metavar="NAME", help="A column or row that holds no readings."
    ),
    click.option(
        "--keep",
        multiple=True,
        metavar="NAME",
        help="A column or row of readings that is named like a sum.",
    ),
    click.option("--header", type=click.IntRange(1), metavar="N", help="Line of the column names."),
    click.option(
        "--sheet", "sheets", multiple=True, metavar="NAME", help="A sheet of a spreadsheet.  [all]"
    ),
    click.option("--path", default="", metavar="POINTER", help="JSON Pointer to the readings."),
    click.option(
        "--pattern", default="", metavar="REGEX", help="Where readings stand in lines of a log."
    ),
    click.option(
        "--decimal",
        type=click.Choice(["comma", "point"]),
        help="Decimal sign, where it is doubtful.",
    ),
    click.option(
        "--dates",
        type=click.Choice(["day-first", "month-first"]),
        help="Order in dates like 3/5/2026.",
    ),
    click.option("--fill-down", is_flag=True, help="Empty cells below a name have that name too."),
)


def table_options(function: Function) -> Function:
    """Add the options of a table to a command, which passes them on to `make_options`."""
    for option in reversed(_OPTIONS):
        function = option(function)
    return function


def settle(
    options: TableOptions, files: Sequence[Path], study: Study | None, *, preview: bool
) -> TableOptions:
    """The options with which files are read; what is doubtful is shown in a terminal, and asked.

    In a preview it is shown and taken as it seems.

    Raises
    ------
    IntakeError
        When the tables are not to be read as they seem.
    """
    from ferocal.documents.intake import reading_document
    from ferocal.intake.tables.entry import read_readings
    from ferocal.intake.tables.options import DoubtfulError

    if preview or not sys.stdin.isatty():
        return replace(options, doubtful=preview)
    refusal: DoubtfulError | None = None
    for path in files:
        try:
            read_readings(path, options, study)
        except DoubtfulError as doubtful:
            refusal = refusal or doubtful
            read = read_readings(path, replace(options, doubtful=True), study)
            assert read.reading is not None
            say(f"{path}: may be read in several ways")
            show(reading_document(read.reading))
    if refusal is None:
        return options
    if not click.confirm("Read it as shown?"):
        raise refusal
    return replace(options, doubtful=True)


def make_options(
    factors: tuple[str, ...] = (), *, columns: tuple[str, ...], **given: Any
) -> TableOptions:
    """What is stated of a table, from the options of `table_options`."""
    from ferocal.intake.shapes import parse_columns
    from ferocal.intake.tables.options import TableOptions

    signs = {"comma": ",", "point": "."}
    decimal, dates = given.pop("decimal"), given.pop("dates")
    return TableOptions(
        named=parse_columns(columns),
        factors=factors,
        decimal=signs.get(decimal),
        dates=None if dates is None else dates.removesuffix("-first"),
        **given,
    )
