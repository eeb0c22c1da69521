"""``ferocal restore``: undo an exclusion."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say, study_option


@click.command("restore")
@study_option
@click.argument("ids", nargs=-1, required=True, metavar="ID...")
@example("ferocal restore 3f9a12c07b")
def command(directory: Path, ids: tuple[str, ...]) -> None:
    """Undo an exclusion.

    The ledger still records the exclusion and its reason.
    """
    from ferocal.ledger.opening import open_ledger
    from ferocal.ledger.writing.additions import mark_runs
    from ferocal.study.load import load_study

    with open_ledger(directory, mask=load_study(directory).mask) as ledger:
        runs = mark_runs(ledger, ids, excluded=False, reason="restored")
    for run in runs:
        say(f"restored {run}")
