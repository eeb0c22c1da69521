"""``ferocal series``: which releases changed the scores."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection
    from ferocal.answers.series import SeriesAnswer


@click.command("series")
@click.argument("factor", metavar="FACTOR")
@reading_command
@click.option(
    "--at",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="Level of another factor.  [that of the baseline]",
)
@click.option("--next", "only_next", is_flag=True, help="Only the release to measure next.")
@selection_options("metric", "workload", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="Every release of every metric.")
@click.option(
    "--gate",
    type=click.Choice(["worse"]),
    help="Exit with 3 if the newest release is worse than the level before it.",
)
@example("ferocal series firmware --gate worse")
def command(
    publish: Publication,
    directory: Path,
    factor: str,
    at: tuple[str, ...],
    only_next: bool,
    selection: Selection,
    detail: bool,
    gate: str | None,
) -> None:
    """Find the releases that changed the scores.

    FACTOR has an `order` in the study file. Each release is compared with the one before, the
    first and the best. Steps are located and told from creeps, and what a later release undoes,
    wholly or in part, is named. --next names the release whose measurement would best
    locate a step.

    --gate worse is for a pipeline that measures every build: it judges the newest release alone,
    against the mean of those before it back to the last step, by metrics that decide, so that
    earlier builds take nothing from what it finds. Expect one false alarm in eight hundred builds.
    """
    import ferocal
    from ferocal.documents.seeking import next_document
    from ferocal.documents.series import series_document

    found = ferocal.open(directory).series(
        factor, at=at, selection=selection, gate=gate is not None
    )
    answer = found.answer
    if only_next:
        publish(lambda: next_document(answer), "series.SeriesObject", answer)
    else:
        publish(lambda: series_document(answer, detail=detail), "series.SeriesObject", answer)
    if not only_next and publish.figure is not None and not publish.wants_json:
        from ferocal.media.figures.series import not_drawn

        if left := ", ".join(series.title for series in not_drawn(answer)):
            say(f"no room for {left}: name metrics with --metric")
    if gate is not None:
        _check_gate(answer, gate)


def _check_gate(answer: SeriesAnswer, gate: str) -> None:
    from ferocal.documents.series import gate_lines

    failures, warnings = gate_lines(answer, gate)
    for line in (*warnings, *failures):
        say(line, err=True)
    if failures:
        sys.exit(3)
