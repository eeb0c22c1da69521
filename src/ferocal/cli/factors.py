"""``ferocal factors``: which of the things that were varied did it."""

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


@click.command("factors")
@study_option
@json_option
@click.option("--from", "start", metavar="NAME", help="Divide the change from here.  [baseline]")
@click.option("--to", "end", metavar="NAME", help="Divide the change up to this configuration.")
@selection_options("metric", "workload", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="All interactions, and what carries the index.")
@example("ferocal factors --to r64+vulkan")
def command(
    directory: Path,
    as_json: bool,
    start: str | None,
    end: str | None,
    metrics: tuple[str, ...],
    workloads: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    detail: bool,
) -> None:
    """Say which of the things that were varied did it.

    What each level of each factor does, averaged over those of the others, per metric and as
    an index over all workloads; which levels act on each other; how the change between two
    configurations is divided among its factors; how it scales where levels are amounts; and
    what always changed together, with the configuration whose measurement would tell it apart.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.factors import show_factors

    selection = Selection((), workloads, metrics, benches, roles, groups)
    answer = ferocal.open(directory).factors(
        start=start, end=end, selection=selection, parts=as_json or detail
    )
    if as_json:
        from ferocal.render.factor_documents import FACTORS

        print_json(FACTORS.make(answer))
    else:
        show_factors(make_console(), answer, detail=detail)
