"""``ferocal factors``: which of the things that were varied changed the scores."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.command("factors")
@reading_command
@click.option(
    "--against", "start", metavar="NAME", help="Start of the change to split.  [baseline]"
)
@click.option("--to", "end", metavar="NAME", help="End of the change to split.")
@selection_options("metric", "workload", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="All interactions, and the parts of the index.")
@example("ferocal factors --to r64+vulkan")
def command(
    publish: Publication,
    directory: Path,
    start: str | None,
    end: str | None,
    selection: Selection,
    detail: bool,
) -> None:
    """Attribute changes to factors.

    The effect of each level of each factor, averaged over the levels of the others, per metric
    and as an index over all workloads; interactions; how the change between two configurations
    splits among factors; scaling, where levels are amounts; and factors that always changed
    together, with the configuration that would separate them.
    """
    import ferocal
    from ferocal.documents.factors import factors_document

    found = ferocal.open(directory).factors(
        start=start, end=end, selection=selection, parts=publish.format != "text" or detail
    )
    answer = found.answer
    publish(lambda: factors_document(answer, detail=detail), "factors.FactorsObject", answer)
