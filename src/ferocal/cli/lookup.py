"""``ferocal lookup``: from a number to its runs, and from a run to its answers."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command


@click.command("lookup", context_settings={"ignore_unknown_options": True})
@reading_command
@click.argument("text", nargs=-1, required=True, metavar="VALUE|RUN")
@example('ferocal lookup "+9.1 %"')
def command(publish: Publication, directory: Path, text: tuple[str, ...]) -> None:
    """Show the runs behind a number, or the answers of a run.

    VALUE is a change or a centre as `ferocal compare` and `ferocal table` print it, with its unit
    or without. RUN is an id that `ferocal runs` lists, or its beginning.
    """
    from ferocal.answers.lookup import look_up
    from ferocal.documents.lookup import lookup_document
    from ferocal.study.load import load_study

    found = look_up(load_study(directory), " ".join(text))
    publish(lambda: lookup_document(found), "lookup.LookupObject", found)
