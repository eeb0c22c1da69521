"""``ferocal merge``: bring in what was measured in a copy of the study."""

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
    """Bring in the runs of a copy of this study.

    A copy that was measured elsewhere: on the other system of a machine that boots two,
    or carried over on a stick. All or nothing; what is here already is not taken twice;
    another study is refused.
    """
    from ferocal.measure.merging import merge_studies
    from ferocal.terms.wording import counted

    merged = merge_studies(directory, other)
    say(
        f"brought in {counted(merged.runs, 'run')} of {counted(merged.visits, 'visit')}; "
        f"{merged.known_runs} were here already"
    )
