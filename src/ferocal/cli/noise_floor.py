"""``ferocal noise-floor``: the noise between visits, known from an earlier study."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command


@click.command("noise-floor")
@reading_command
@click.argument(
    "source",
    metavar="[EARLIER-STUDY]",
    required=False,
    type=click.Path(path_type=Path, file_okay=False, exists=True),
)
@example("ferocal noise-floor ../control-of-may")
def command(publish: Publication, directory: Path, source: Path | None) -> None:
    """Use the noise measured in an earlier study.

    A change that cannot be undone has one visit before and one after. How much two visits differ
    by chance is then known only from another study: of the same bench with the same workloads,
    measured in rounds, best with a control arm over ten rounds. Without EARLIER-STUDY, the noise
    floors in the ledger are listed.
    """
    from ferocal.answers.noise_floors import find_noise_floors, known_noise_floors
    from ferocal.documents.noise import noise_floors_document
    from ferocal.intake.keeping import bring_noise_floors
    from ferocal.study.load import load_study

    study = load_study(directory)
    if source is None:
        records = known_noise_floors(study)
    else:
        records = find_noise_floors(study, source)
        bring_noise_floors(study, records)
    publish(
        lambda: noise_floors_document(records, brought=source is not None),
        "runs.NoiseFloorsObject",
        records,
    )
