"""``ferocal measure``: take the runs that the plan still needs."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, study_option

if TYPE_CHECKING:
    from ferocal.measure.progress import Summary


@click.command("measure")
@study_option
@click.option(
    "--rounds",
    type=click.IntRange(min=1),
    metavar="N",
    help="Measure up to round N in all, instead of the number in the study file.",
)
@click.option("--retry", is_flag=True, help="Take runs again that failed or overran.")
@example("ferocal measure --rounds 10")
def command(directory: Path, rounds: int | None, retry: bool) -> None:
    """Take the runs that the plan still needs.

    In every visit the checks of the configuration come first, then for each workload
    its warm-ups and its runs. Ctrl-C ends cleanly and keeps what was recorded; the same
    command goes on from there. Exit status 1 means that a configuration was not active
    or that runs failed.
    """
    from ferocal.cli.progress import make_observer
    from ferocal.measure.campaign import measure_study
    from ferocal.study.load import load_study

    study = load_study(directory)
    with make_observer() as observer:
        summary = measure_study(study, observer, rounds=rounds, retry=retry)
    _tell(summary)
    if summary.interrupted:
        sys.exit(130)
    if summary.problems:
        sys.exit(1)


def _tell(summary: Summary) -> None:
    from ferocal.report.numbers import counted

    for slot, problem in summary.problems:
        where = f"round {slot.round}, {slot.configuration}, {slot.workload}, run {slot.number}"
        click.echo(f"{where}: {problem}", err=True)
    if summary.resumed_after_crash:
        lost = counted(summary.resumed_after_crash, "run")
        click.echo(f"{lost} of an earlier session never ended and count as interrupted")
    if summary.interrupted:
        click.echo(
            f"interrupted; {counted(summary.taken, 'run')} taken, {summary.remaining} to go: "
            "`ferocal measure` goes on from there"
        )
    elif not summary.taken:
        click.echo(f"everything is measured: {counted(summary.planned, 'run')}")
    else:
        failed = f", {len(summary.problems)} of them not valid" if summary.problems else ""
        click.echo(f"took {counted(summary.taken, 'run')}{failed}; the plan is complete")
    if not summary.interrupted:
        click.echo("next: `ferocal compare` gives the answer, `ferocal report` writes it down")
