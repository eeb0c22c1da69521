"""``ferocal restore``: undo an exclusion."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say, study_option


@click.command("restore")
@study_option
@click.argument("ids", nargs=-1, metavar="ID...")
@click.option("--import", "imported", metavar="ID", help="All runs of an import instead.")
@example("ferocal restore 3f9a12c07b")
def command(directory: Path, ids: tuple[str, ...], imported: str | None) -> None:
    """Undo an exclusion.

    The ledger still records the exclusion and its reason. With --import, all runs of an import.
    """
    from ferocal.ledger.writing.additions import mark_import, mark_runs
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    if (imported is None) == (not ids):
        raise click.UsageError("name runs, or an import with --import")
    with open_ledger(directory, mask=load_study(directory).mask) as ledger:
        if imported is not None:
            name, count = mark_import(ledger, imported, excluded=False, reason="restored")
            say(f"restored {counted(count, 'run')} of import {name}")
            return
        runs = mark_runs(ledger, ids, excluded=False, reason="restored")
    for run in runs:
        say(f"restored {run}")
