"""``ferocal noise-floor``: how much visits vary, known from an earlier study."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option


@click.command("noise-floor")
@study_option
@json_option
@click.argument(
    "source",
    metavar="[EARLIER-STUDY]",
    required=False,
    type=click.Path(path_type=Path, file_okay=False, exists=True),
)
@example("ferocal noise-floor ../control-of-may")
def command(directory: Path, as_json: bool, source: Path | None) -> None:
    """Bring in how much visits vary, from an earlier study.

    A change that cannot be undone has one visit before and one after. How much two visits
    differ by chance is then known only from elsewhere: from a study of the same bench with
    the same workloads that was measured in rounds, best with a control arm over ten rounds.
    Without EARLIER-STUDY, the noise floors that were brought in are listed.
    """
    from ferocal.answers.noise_floors import find_noise_floors, known_noise_floors
    from ferocal.intake.noise_floors import bring_noise_floors
    from ferocal.render.noise_floors import show_noise_floors
    from ferocal.study.load import load_study

    study = load_study(directory)
    if source is None:
        records = known_noise_floors(study)
    else:
        records = find_noise_floors(study, source)
        bring_noise_floors(study, records)
    if as_json:
        from ferocal.render.documents import NOISE_FLOORS

        print_json(NOISE_FLOORS.make(records))
    else:
        show_noise_floors(make_console(), records, brought=source is not None)
