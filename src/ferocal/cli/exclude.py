"""``ferocal exclude``: mark runs as not to be used."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say, study_option


@click.command("exclude")
@study_option
@click.argument("ids", nargs=-1, required=True, metavar="ID...")
@click.option("--reason", required=True, help="Why; it is shown wherever the runs are missed.")
@example('ferocal exclude 3f9a12c07b --reason "projector was off"')
def command(directory: Path, ids: tuple[str, ...], reason: str) -> None:
    """Mark runs as not to be used.

    Nothing is deleted: `ferocal restore` lifts the mark, and every table says how many
    runs are excluded. IDs are those that `ferocal runs` lists, or their beginnings.
    """
    from ferocal.ledger.opening import open_ledger
    from ferocal.ledger.writing.marks import mark_runs
    from ferocal.terms.wording import counted

    # Damaged runs are left out in this way.
    with open_ledger(directory, checked=False) as ledger:
        count = mark_runs(ledger, ids, excluded=True, reason=reason)
    say(f"excluded {counted(count, 'run')}; `ferocal restore` takes this back")
