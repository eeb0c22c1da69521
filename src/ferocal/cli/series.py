"""``ferocal series``: which releases changed the scores."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


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
@example("ferocal series firmware --next")
def command(
    publish: Publication,
    directory: Path,
    factor: str,
    at: tuple[str, ...],
    only_next: bool,
    selection: Selection,
    detail: bool,
) -> None:
    """Find the releases that changed the scores.

    FACTOR has an `order` in the study file. Each release is compared with the one before, the
    first and the best. Steps are located and told from creeps, and changes undone by a later
    release are named. --next names the release whose measurement would best locate a step.
    """
    import ferocal
    from ferocal.documents.objects.series import SeriesObject
    from ferocal.documents.seeking import next_document
    from ferocal.documents.series import series_document

    answer = ferocal.open(directory).series(factor, at=at, selection=selection)
    if only_next:
        publish(lambda: next_document(answer), SeriesObject.make, answer)
        return
    publish(lambda: series_document(answer, detail=detail), SeriesObject.make, answer)
    if publish.figure is not None and not publish.wants_json:
        from ferocal.media.figures.series import not_drawn

        if left := ", ".join(series.title for series in not_drawn(answer)):
            say(f"no room for {left}: name metrics with --metric")
