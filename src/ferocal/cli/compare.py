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
    selection_options,
    show_left_out,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.analysis.effects import Effect
    from ferocal.comparison import Comparison


@click.command("compare")
@study_option
@json_option
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@selection_options
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
    sort: str,
    times: bool,
    gate: str | None,
) -> None:
    """Say which configuration changes the scores, and by how much.

    Every configuration is compared with the baseline, metric by metric: the change of
    the measured value with its 95 % interval, and a verdict that says whether that is
    good: better, worse, equivalent (inside the margin) or inconclusive.

    Limits to some configurations, workloads or metrics may be repeated. They change what
    is shown and what the gate looks at, not how it is judged.
    """
    import ferocal
    from ferocal.comparison import Selection

    selection = Selection(configurations, workloads, metrics)
    comparison = ferocal.open(directory).compare(against=against, selection=selection)
    comparison = replace(comparison, effects=tuple(_sorted(comparison.effects, sort)))
    if as_json:
        _print_object(comparison)
    else:
        show_comparison(comparison, times=times)
    if gate is not None:
        _check_gate(comparison, gate)


def _sorted(effects: Sequence[Effect], sort: str) -> list[Effect]:
    if sort == "size":
        return sorted(effects, key=lambda e: -abs(e.shift.mean))
    if sort == "name":
        return sorted(effects, key=lambda e: (e.series.workload, e.series.metric, e.configuration))
    return list(effects)


def _print_object(comparison: Comparison) -> None:
    from ferocal.report.json_form import comparison_object

    head = comparison.study.head
    document = comparison_object(
        comparison.effects,
        question=head.question,
        baseline=comparison.baseline,
        margin=head.margin,
        confidence=comparison.confidence,
        excluded=comparison.evidence.excluded,
    )
    print_json(document)


def _check_gate(comparison: Comparison, gate: str) -> None:
    from ferocal.analysis.effects import gate_failures

    broken = gate_failures(comparison.effects, gate=gate)
    for effect in broken:
        click.echo(
            f"gate {gate}: {effect.configuration} on {effect.series.workload} "
            f"{effect.series.metric} is {effect.verdict}",
            err=True,
        )
    if broken:
        sys.exit(3)


def show_comparison(comparison: Comparison, *, times: bool = False) -> None:
    """Print answer, table and caveats."""
    from rich.padding import Padding

    from ferocal.report.answer import answer, caveat_lines, next_step
    from ferocal.report.numbers import margin_text
    from ferocal.report.tables import effects_table

    console = make_console()
    head = comparison.study.head
    console.print(head.question, style="bold")
    console.print(answer(comparison.effects) + "\n")
    console.print(effects_table(comparison.effects, comparison.confidence, times=times))
    console.print(f"against {comparison.baseline}, margin {margin_text(head.margin)}")
    show_left_out(console, comparison.evidence)
    for line in caveat_lines(comparison.effects):
        indent = len(line) - len(line.lstrip())
        console.print(Padding(line.lstrip(), (0, 0, 0, indent), expand=False))
    console.print(f"next: {next_step(comparison.effects)}")
