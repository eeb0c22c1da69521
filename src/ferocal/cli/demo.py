"""``ferocal demo``: a made-up study on a simulated bench."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, make_console

if TYPE_CHECKING:
    from ferocal.comparison import Comparison
    from ferocal.study.load import Study


@click.command("demo")
@click.argument(
    "directory",
    metavar="[DIR]",
    default=Path("ferocal-demo"),
    type=click.Path(path_type=Path, file_okay=False),
)
@example("ferocal demo /tmp/dome && cd /tmp/dome && ferocal compare")
def command(directory: Path) -> None:
    """Measure a made-up study on a simulated bench.

    A planetarium asks whether a graphics driver and a graphics API make its shows
    smoother. The study is written to DIR (ferocal-demo if not named) and measured in
    the same way as a real one; since its bench is simulated, what is true can be shown
    beside what was found.
    """
    from ferocal.demo.scenario import write_demo
    from ferocal.study.load import load_study

    write_demo(directory)
    study = load_study(directory)
    click.echo(f"measuring the study in {directory} on its simulated bench")
    prevented = _measure(study)
    _show(directory)
    _show_prevented(prevented, study.head.runs * len(study.workloads))


def _measure(study: Study) -> list[str]:
    """Measure to the end; what was said of configurations that were not active."""
    from ferocal.cli.progress import make_observer
    from ferocal.demo.scenario import watch
    from ferocal.intake.typed import TypedReading
    from ferocal.measure.campaign import measure_study
    from ferocal.measure.progress import Answer, Question
    from ferocal.measure.session import Options

    prevented: list[str] = []

    def answer(question: Question) -> Answer:
        return Answer(TypedReading(watch(study.directory, question.workload)))

    while True:
        with make_observer(answer) as observer:
            summary = measure_study(study, observer, options=Options(go_on=True))
        if summary.interrupted:
            click.echo("interrupted; the same command goes on from there")
            sys.exit(130)
        prevented += summary.not_active
        if not summary.remaining:
            return prevented


def _show_prevented(prevented: list[str], runs: int) -> None:
    """Tell which mistakes the checks have prevented."""
    for text in prevented:
        lines = text.splitlines()
        click.echo(f"prevented: {lines[0]}\n{lines[1]}")
        click.echo(
            f"  The bench ignored a switch, as real ones do. Without the check, {runs} runs of "
            "the wrong\n  configuration would have counted; the visit was made again instead."
        )


def _show(directory: Path) -> None:
    import ferocal
    from ferocal.analysis.cells import tabulate
    from ferocal.cli.compare import show_comparison
    from ferocal.publish import write_report
    from ferocal.report.tables import cells_table

    comparison = ferocal.open(directory).compare()
    console = make_console()
    names = [configuration.name for configuration in comparison.study.configurations]
    console.print()
    console.print(cells_table(tabulate(comparison.evidence.readings), names, console))
    show_comparison(comparison)
    console.print("\nThe bench is simulated, so what is true is known:", style="bold")
    _show_truth(comparison)
    console.print(f"wrote {write_report(directory, directory / 'report.html')}")


def _show_truth(comparison: Comparison) -> None:
    from ferocal.demo.scenario import beside_truth
    from ferocal.report.numbers import change_text, interval_text, signed
    from ferocal.report.tables import plain_table

    table = plain_table(
        "workload",
        "configuration",
        "found",
        "95 % interval",
        "true",
        "interval holds it",
        right=("found", "95 % interval", "true"),
    )
    for truth in beside_truth(comparison.study, comparison.effects):
        effect = truth.effect
        table.add_row(
            effect.series.workload,
            effect.configuration,
            change_text(effect),
            interval_text(effect),
            f"{signed(100 * truth.true_change, 1)} %",
            "yes" if truth.covered else "no",
        )
    make_console().print(table)
