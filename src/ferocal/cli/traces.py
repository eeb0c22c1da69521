"""What ``ferocal frames`` and ``ferocal soak`` share: tables, verdicts, a chart."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import (
    Function,
    force_option,
    json_option,
    make_console,
    print_json,
    say,
    selection_options,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.answers.traces import TraceCurves

_OPTIONS = (
    study_option,
    json_option,
    click.option("--against", metavar="NAME", help="Compare with this configuration instead."),
    selection_options("workload", "configuration", "bench"),
    click.option(
        "--chart",
        type=click.Path(path_type=Path, dir_okay=False),
        metavar="FILE",
        help="Write a figure, as .png or .svg.",
    ),
    force_option,
)


def trace_options(function: Function) -> Function:
    """The options of a command that shows traces."""
    for option in _OPTIONS[::-1]:
        function = option(function)
    return function


def show_kind(
    kind: str,
    *,
    directory: Path,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    benches: tuple[str, ...],
    chart: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    """Print the table and the comparison of all metrics of a kind, and draw the chart."""
    import ferocal
    from ferocal.answers.evidence import gather
    from ferocal.answers.selection import Selection
    from ferocal.answers.traces import compare_traces, find_trace_metrics, trace_curves
    from ferocal.ledger.opening import read_ledger
    from ferocal.render.traces import scaled_bins, show_traces

    opened = ferocal.open(directory)
    selection = Selection(configurations, workloads, benches=benches)
    find_trace_metrics(opened.study, kind, workloads)  # before the ledger is read
    drawn: list[TraceCurves] = []
    with read_ledger(directory) as ledger:
        evidence = gather(opened.study, ledger)
        answer = compare_traces(opened.study, evidence, kind, against=against, selection=selection)
        if chart is not None or (kind == "soak" and not as_json):
            drawn = trace_curves(opened.study, ledger, answer.metrics, selection)
    if as_json:
        from ferocal.render.documents import TRACES

        print_json(TRACES.make(answer))
    else:
        show_traces(make_console(), answer)
        for line in scaled_bins(drawn):
            say(line)
    if chart is not None:
        _draw(drawn, chart, force=force, quiet=as_json)


def _draw(drawn: list[TraceCurves], chart: Path, *, force: bool, quiet: bool) -> None:
    from ferocal.render.traces import draw_traces

    if not drawn:
        say("no traces recorded, so no chart", err=True)
    for path in draw_traces(drawn, chart, force=force):
        say(f"wrote {path}", err=quiet)
