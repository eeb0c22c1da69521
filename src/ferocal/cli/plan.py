"""``ferocal plan``: what will be done, and what it can answer."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import ROUND, example
from ferocal.cli.publishing import Publication, reading_command

if TYPE_CHECKING:
    from ferocal.study.load import Study


@click.command("plan")
@reading_command
@click.option(
    "--bench", metavar="NAME", help="Use durations and noise seen on this bench.  [the first]"
)
@click.option("--detail", is_flag=True, help="The order of all rounds, and all metrics.")
@click.option(
    "--design",
    type=click.Choice(["separate"]),
    help="Find the fewest configurations that separate all factors.",
)
@click.option(
    "--interaction",
    "interactions",
    multiple=True,
    metavar="FACTOR:FACTOR",
    help="With --design: also separate this interaction; may be repeated.",
)
@click.option("--rounds", type=ROUND, metavar="N", help="Plan for this number of rounds.")
@click.option("--detect", metavar="CHANGE", help='Change to detect, such as "2 %".')
@click.option("--sd", metavar="SD", help='SD of changes between rounds, such as "3 %".')
@click.option(
    "--like",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    metavar="DIR",
    help="Use the noise of an earlier study with the same workloads.",
)
@example("ferocal plan --detect 2%")
def command(
    publish: Publication,
    directory: Path,
    bench: str | None,
    detail: bool,
    design: str | None,
    interactions: tuple[str, ...],
    rounds: int | None,
    detect: str | None,
    sd: str | None,
    like: Path | None,
) -> None:
    """Show the visits, their duration, and what they can detect.

    The order of the visits, the number of switches and runs, the expected duration (from
    durations seen or stated), and the questions that this plan cannot answer. Where the noise
    between rounds is known (from this study so far, --like or --sd), the number of rounds needed
    to detect a change with 80 % and 90 % power, and the number of runs per visit that needs the
    least total time.

    With --design separate: the smallest set of configurations that separates the effects of all
    factors (and the interactions named) with the least switching, ready for the study file.
    """
    if interactions and design is None:
        raise click.UsageError("--interaction needs --design separate")
    from ferocal.study.load import load_study

    study = load_study(directory)
    if design is not None:
        _publish_separation(publish, study, interactions)
        return
    from ferocal.answers.plan import foresee_study
    from ferocal.documents.plan import plan_document

    foresight = foresee_study(
        study.on(bench),
        rounds=rounds,
        detect=None if detect is None else _share(detect, "--detect"),
        stated_sd=None if sd is None else _share(sd, "--sd"),
        like=like,
    )
    publish(lambda: plan_document(foresight, detail=detail), "plan.PlanObject", foresight)


def _publish_separation(publish: Publication, study: Study, interactions: Sequence[str]) -> None:
    from ferocal.documents.separation import separation_document
    from ferocal.plan.separation import separate

    found = separate(study, [_pair(text) for text in interactions])
    publish(lambda: separation_document(found), "plan.SeparationObject", found)


def _pair(text: str) -> tuple[str, str]:
    first, colon, second = text.partition(":")
    if not colon:
        raise click.BadParameter("write two factors, like driver:api", param_hint="--interaction")
    return first, second


def _share(text: str, option: str) -> float:
    from ferocal.study.quantities import parse_share

    try:
        return parse_share(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint=option) from None
