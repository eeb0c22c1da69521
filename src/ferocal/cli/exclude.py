"""``ferocal exclude``: runs that are not to be used."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, reason_option, say, study_option


@click.command("exclude")
@study_option
@click.argument("ids", nargs=-1, required=True, metavar="ID...")
@reason_option
@example('ferocal exclude 3f9a12c07b --reason "projector was off"')
def command(directory: Path, ids: tuple[str, ...], reason: str) -> None:
    """Exclude runs from the results.

    Nothing is deleted: `ferocal restore` undoes it, and every output shows how many runs are
    excluded. ID is one that `ferocal runs` lists, or its beginning.
    """
    from ferocal.ledger.opening import open_ledger
    from ferocal.ledger.writing.additions import mark_runs
    from ferocal.study.load import load_study

    # Damaged runs are left out in this way.
    with open_ledger(directory, checked=False, mask=load_study(directory).mask) as ledger:
        runs = mark_runs(ledger, ids, excluded=True, reason=reason)
    for run in runs:
        say(f"excluded {run}")
    say(f"undo: ferocal restore {' '.join(ids)}")
