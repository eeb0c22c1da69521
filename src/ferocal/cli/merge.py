"""``ferocal merge``: runs that were measured in a copy of the study."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say, study_option


@click.command("merge")
@study_option
@click.argument(
    "other", metavar="OTHER-STUDY", type=click.Path(path_type=Path, file_okay=False, exists=True)
)
@example("ferocal merge /media/stick/my-study")
def command(directory: Path, other: Path) -> None:
    """Import the runs of a copy of this study.

    A copy that was measured elsewhere, such as on the other system of a dual-boot machine. All or
    nothing; runs already in the ledger are skipped; a different study is refused.
    """
    from ferocal.measure.merging import merge_studies
    from ferocal.terms.wording import counted

    merged = merge_studies(directory, other)
    say(
        f"imported {counted(merged.runs, 'run')} of {counted(merged.visits, 'visit')}; "
        f"skipped {merged.known_runs} already in the ledger"
    )
