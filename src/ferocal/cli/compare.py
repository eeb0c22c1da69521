"""``ferocal compare``: effects and verdicts."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    say,
    selection_options,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.comparison import Comparison


@click.command("compare")
@study_option
@json_option
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@selection_options()
@click.option(
    "--sort",
    type=click.Choice(["file", "size", "name"]),
    default="file",
    show_default=True,
    help="Order of the rows: of the study file, by size of effect, or by name.",
)
@click.option("--times", is_flag=True, help='Add a column "times as fast", above 1 is better.')
@click.option(
    "--gate",
    type=click.Choice(["worse", "not-equivalent"]),
    help="Exit with 3 if a primary metric is so (any metric, if none is primary).",
)
@example("ferocal compare --against r64+opengl --gate worse")
def command(
    directory: Path,
    as_json: bool,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    metrics: tuple[str, ...],
    benches: tuple[str, ...],
    sort: str,
    times: bool,
    gate: str | None,
) -> None:
    """Say which configuration changes the scores, and by how much.

    Every configuration is compared with the baseline, metric by metric: the change of
    the measured value with its 95 % interval, and a verdict that says whether that is
    good: better, worse, equivalent (inside the margin) or inconclusive. Several benches
    come one after the other.

    Limits to some configurations, workloads, metrics or benches may be repeated. They
    change what is shown and what the gate looks at, not how it is judged. A gate needs evidence:
    it fails where nothing can be compared, and where the control arm differs.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.comparison import comparison_object, show_comparison

    selection = Selection(configurations, workloads, metrics, benches)
    comparison = ferocal.open(directory).compare(against=against, selection=selection)
    if benches:
        comparison = replace(comparison, benches=benches)
    comparison = replace(comparison, effects=tuple(_sorted(comparison.effects, sort)))
    if as_json:
        print_json(comparison_object(comparison))
    else:
        show_comparison(make_console(), comparison, times=times)
    if gate is not None:
        _check_gate(comparison, gate)


def _sorted(effects: Sequence[Effect], sort: str) -> list[Effect]:
    if sort == "size":
        return sorted(effects, key=lambda e: -abs(e.shift.mean))
    if sort == "name":
        return sorted(effects, key=lambda e: (e.series.workload, e.series.metric, e.configuration))
    return list(effects)


def _check_gate(comparison: Comparison, gate: str) -> None:
    from ferocal.render.comparison import gate_lines

    failures = gate_lines(comparison, gate)
    for line in (*(f"warning: {change.text}" for change in comparison.criteria_changes), *failures):
        say(line, err=True)
    if failures:
        sys.exit(3)
