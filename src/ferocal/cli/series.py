"""``ferocal series``: where a series of releases changed the scores."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    force_option,
    json_option,
    make_console,
    print_json,
    say,
    selection_options,
    study_option,
)


@click.command("series")
@click.argument("factor", metavar="FACTOR")
@study_option
@json_option
@click.option(
    "--at",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="The level of another factor.  [that of the baseline]",
)
@click.option("--next", "only_next", is_flag=True, help="Only which release to measure next.")
@click.option(
    "-o",
    "--output",
    "chart",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Draw the chart, as .svg or .png.",
)
@selection_options("metric", "workload", "bench", "role", "group")
@click.option("--detail", is_flag=True, help="Every release of every metric.")
@force_option
@example("ferocal series firmware --next")
def command(
    factor: str,
    directory: Path,
    as_json: bool,
    at: tuple[str, ...],
    only_next: bool,
    chart: Path | None,
    metrics: tuple[str, ...],
    workloads: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    detail: bool,
    force: bool,
) -> None:
    """Say where a series of releases changed the scores.

    FACTOR has an `order` in the study file. Every release is compared with the one before, the
    first and the best; steps are located, creeps told from steps, and what was taken back later
    is named. --next names the release whose measurement would tell most of where a step lies.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.releases import show_series
    from ferocal.render.seeking import show_next

    selection = Selection((), workloads, metrics, benches, roles, groups)
    answer = ferocal.open(directory).series(factor, at=at, selection=selection)
    if as_json:
        from ferocal.render.release_documents import SERIES

        print_json(SERIES.make(answer))
    elif only_next:
        show_next(make_console(), answer)
    else:
        show_series(make_console(), answer, detail=detail)
    if chart is not None:
        from ferocal.render.release_figures import not_drawn, series_figure
        from ferocal.render.trace_figures import save_figure

        save_figure(series_figure(answer), chart, force=force)
        left = ", ".join(series.title for series in not_drawn(answer))
        rest = f"; no room for {left}: name metrics with --metric" if left else ""
        say(f"wrote {chart}{rest}", err=as_json)
