"""``ferocal chart``: all metrics under all configurations at a glance."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    force_option,
    make_console,
    say,
    selection_options,
    study_option,
)


@click.command("chart")
@study_option
@click.option("--against", metavar="NAME", help="Draw changes against this configuration.")
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option(
    "-o",
    "--output",
    "chart",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Draw it, as .svg or .png.",
)
@force_option
@example("ferocal chart -o chart.svg")
def command(
    directory: Path,
    against: str | None,
    metrics: tuple[str, ...],
    workloads: tuple[str, ...],
    configurations: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    chart: Path | None,
    force: bool,
) -> None:
    """Show all metrics under all configurations at a glance.

    Printed, the best of every row is marked, with what is not shown to differ from it. Drawn,
    every metric is a row on an axis of ratios, better always to the right, with intervals.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.chart import show_charts

    selection = Selection(configurations, workloads, metrics, benches, roles, groups)
    charts = ferocal.open(directory).charts(against=against, selection=selection)
    show_charts(make_console(), charts)
    if chart is None:
        return
    from ferocal.render.chart_figure import chart_figure, chart_path
    from ferocal.render.trace_figures import save_figure

    for found in charts:
        path = chart_path(chart, found, len(charts))
        save_figure(chart_figure(found), path, force=force)
        say(f"wrote {path}")
