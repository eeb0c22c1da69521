"""``ferocal rank``: who is first, how surely, and what that depends on."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    selection_options,
    study_option,
)


@click.command("rank")
@study_option
@json_option
@click.option("--for", "preference", metavar="NAME", help="With the weights of [preference.NAME].")
@click.option(
    "--per",
    metavar="NAME",
    help="Per a declared quantity, such as a price or cores, or per a metric.",
)
@click.option(
    "--across",
    type=click.Choice(["configurations", "benches"]),
    default="configurations",
    show_default=True,
    help="Who compete.",
)
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="All rows.")
@example("ferocal rank --for archive --per price")
def command(
    directory: Path,
    as_json: bool,
    preference: str | None,
    per: str | None,
    across: str,
    metrics: tuple[str, ...],
    workloads: tuple[str, ...],
    configurations: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    detail: bool,
) -> None:
    """Say who is first, how surely, and what that depends on.

    Configurations are ranked by all metrics that decide together, and by each of them. Those that
    are not shown to differ share their ranks. It says how far weights can move before another
    leads, and who is first by one metric and behind by another.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.ranking import show_ranking

    selection = Selection(configurations, workloads, metrics, benches, roles, groups)
    answer = ferocal.open(directory).rank(
        preference=preference, per=per, across=across, selection=selection
    )
    if as_json:
        from ferocal.render.rank_documents import RANKING

        print_json(RANKING.make(answer))
    else:
        show_ranking(make_console(), answer, detail=detail)
