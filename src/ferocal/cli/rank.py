"""``ferocal rank``: which configuration is best, and what that depends on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.command("rank")
@reading_command
@click.option("--for", "preference", metavar="NAME", help="Use the weights of [preference.NAME].")
@click.option(
    "--per", metavar="NAME", help="Divide by a declared quantity (price, cores) or by a metric."
)
@click.option(
    "--across",
    type=click.Choice(["configurations", "benches"]),
    default="configurations",
    show_default=True,
    help="What is ranked.",
)
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="All rows.")
@example("ferocal rank --for archive --per price")
def command(
    publish: Publication,
    directory: Path,
    preference: str | None,
    per: str | None,
    across: str,
    selection: Selection,
    detail: bool,
) -> None:
    """Rank configurations, with confidence and sensitivity to the weights.

    Configurations are ranked over all metrics that decide, and by each of them. Statistical ties
    share a rank. It shows how far a weight can move before another configuration leads, and
    which configuration is first in one metric but behind in another.
    """
    import ferocal
    from ferocal.documents.rank import ranking_document

    found = ferocal.open(directory).ranking(
        preference=preference, per=per, across=across, selection=selection
    )
    answer = found.answer
    publish(lambda: ranking_document(answer, detail=detail), "rank.RankingObject", answer)
