"""``ferocal exclude``: runs that are not to be used."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, reason_option, say, study_option


@click.command("exclude")
@study_option
@click.argument("ids", nargs=-1, metavar="ID...")
@click.option("--import", "imported", metavar="ID", help="All runs of an import instead.")
@reason_option
@example('ferocal exclude 3f9a12c07b --reason "projector was off"')
def command(directory: Path, ids: tuple[str, ...], imported: str | None, reason: str) -> None:
    """Exclude runs from the results.

    Nothing is deleted: `ferocal restore` undoes it, and every output shows how many runs are
    excluded. ID is one that `ferocal runs` lists, or its beginning. With --import, all runs that a
    `load`, `load-trace`, `enter` or session of `measure` brought; `ferocal history` lists their
    ids.
    """
    from ferocal.ledger.writing.additions import mark_import, mark_runs
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    if (imported is None) == (not ids):
        raise click.UsageError("name runs, or an import with --import")
    # Damaged runs are left out in this way.
    with open_ledger(directory, checked=False, mask=load_study(directory).mask) as ledger:
        if imported is not None:
            name, count = mark_import(ledger, imported, excluded=True, reason=reason)
            say(f"excluded {counted(count, 'run')} of import {name}")
            say(f"undo: ferocal restore --import {name}")
            return
        runs = mark_runs(ledger, ids, excluded=True, reason=reason)
    for run in runs:
        say(f"excluded {run}")
    say(f"undo: ferocal restore {' '.join(ids)}")
