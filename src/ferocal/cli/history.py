"""``ferocal history``: what happened to a study."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import Publication, reading_command


@click.command("history")
@reading_command
@click.option("--all", "everything", is_flag=True, help="All entries, however many.")
@click.option(
    "--study-file",
    "moment",
    metavar="DATE",
    help="Print the study file as it was used on that date, or at that time.",
)
@example("ferocal history --study-file 2026-05-03")
def command(publish: Publication, directory: Path, everything: bool, moment: str | None) -> None:
    """Show what happened to a study, in order of time.

    Sessions and imports with who did them, if stated, and under which version of the study file;
    exclusions, corrections and notes; visits that were set aside, and why; and what was changed in
    the study file between its versions. The id of an import is what `ferocal exclude --import`
    takes.
    """
    from ferocal.answers.history import file_at, make_history
    from ferocal.documents.history import history_document
    from ferocal.study.load import load_study

    history = make_history(load_study(directory))
    if moment is not None:
        version = file_at(history, moment)
        say(version.text.rstrip("\n"))
        return
    publish(
        lambda: history_document(history, everything=everything), "history.HistoryObject", history
    )
