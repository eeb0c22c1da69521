"""What ``ferocal frames`` and ``ferocal soak`` share: tables, verdicts, a chart."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import Function, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from ferocal.comparison import Comparison, Selection
    from ferocal.trace_view import TraceMetric

_OPTIONS = (
    study_option,
    json_option,
    click.option("--against", metavar="NAME", help="Compare with this configuration instead."),
    click.option(
        "--configuration", "configurations", multiple=True, metavar="NAME", help="Only it."
    ),
    click.option(
        "--workload", "workloads", multiple=True, metavar="NAME", help="Only this workload."
    ),
    click.option(
        "--chart",
        type=click.Path(path_type=Path, dir_okay=False),
        metavar="FILE",
        help="Write a figure, as .png or .svg.",
    ),
)


def trace_options(function: Function) -> Function:
    """The options of a command that shows traces."""
    for option in _OPTIONS[::-1]:
        function = option(function)
    return function


def show_traces(
    kind: str,
    *,
    directory: Path,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    chart: Path | None,
    as_json: bool,
) -> None:
    """Print the table and the comparison of all metrics of a kind, and draw the chart."""
    import ferocal
    from ferocal.comparison import Selection
    from ferocal.trace_view import find_trace_metrics, odd_bins

    opened = ferocal.open(directory)
    found = find_trace_metrics(opened.study, kind, workloads)
    names = tuple(name for one in found for name in one.derived)
    selection = Selection(configurations, tuple(one.workload for one in found), names)
    comparison = opened.compare(against=against, selection=selection)
    if as_json:
        _print_object(comparison, selection)
    else:
        _show(comparison, selection)
        if kind == "soak":
            for text in odd_bins(opened.study, directory, found, replace(selection, workloads=())):
                click.echo(text)
    if chart is not None:
        _draw(comparison, found, replace(selection, workloads=()), chart, as_json)


def _print_object(comparison: Comparison, selection: Selection) -> None:
    from ferocal.analysis.cells import select_cells, tabulate
    from ferocal.report.json_form import cell_objects, effect_object

    cells = select_cells(tabulate(comparison.evidence.readings), selection.wants)
    print_json(
        {
            "baseline": comparison.baseline,
            "cells": cell_objects(cells),
            "effects": [effect_object(effect) for effect in comparison.effects],
        }
    )


def _show(comparison: Comparison, selection: Selection) -> None:
    from ferocal.analysis.cells import select_cells, tabulate
    from ferocal.cli.compare import show_comparison
    from ferocal.report.tables import cells_table

    console = make_console()
    names = [configuration.name for configuration in comparison.study.configurations]
    cells = select_cells(tabulate(comparison.evidence.readings), selection.wants)
    console.print(cells_table(cells, names, console))
    show_comparison(comparison)


def _draw(
    comparison: Comparison,
    found: list[TraceMetric],
    selection: Selection,
    chart: Path,
    quiet: bool,
) -> None:
    from ferocal.report.trace_figures import frames_figure, save_figure, soak_figure
    from ferocal.trace_view import frame_curves, soak_curves

    study = comparison.study
    for one in found:
        path = chart
        if len(found) > 1:
            path = chart.with_name(f"{chart.stem}-{one.workload}-{one.name}{chart.suffix}")
        title = f"{one.workload}: {one.name}"
        if one.metric.kind == "frames":
            curves = frame_curves(study, study.directory, one, selection)
            figure = frames_figure(curves, title) if curves else None
        else:
            soaks = soak_curves(study, study.directory, one, selection)
            figure = soak_figure(soaks, title, one.metric.unit) if soaks else None
        if figure is None:
            click.echo(f"{title}: no traces recorded, so no chart", err=True)
            continue
        save_figure(figure, path)
        click.echo(f"wrote {path}", err=quiet)
