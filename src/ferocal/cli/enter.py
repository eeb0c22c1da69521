"""``ferocal enter``: readings taken earlier or elsewhere, in one line."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, study_option
from ferocal.cli.place import bench_option, date_option, parse_time


@click.command("enter", context_settings={"ignore_unknown_options": True})
@study_option
@click.argument("workload", metavar="WORKLOAD")
@click.argument("values", nargs=-1, required=True, metavar="VALUE...")
@click.option("--configuration", required=True, metavar="NAME", help="Of this configuration.")
@click.option("--metric", default="", metavar="NAME", help="If the workload has several.")
@click.option("--round", "number", type=click.IntRange(min=1), metavar="N", help="Its round.")
@click.option("--visit", metavar="NAME", help="Its visit: values with one name belong together.")
@bench_option
@click.option("--version", metavar="TEXT", help="What the workload says of its version.")
@date_option
@example("ferocal enter cold-start --configuration halden-5 21.4 21.2 23.0")
def command(
    directory: Path,
    workload: str,
    values: tuple[str, ...],
    configuration: str,
    metric: str,
    number: int | None,
    visit: str | None,
    bench: str | None,
    version: str | None,
    date: str | None,
) -> None:
    """Record readings taken earlier or elsewhere.

    Several values are several runs, of one visit if --round or --visit says so. A value may
    have a unit (21400ms), a decimal comma, or be a range off a moving display (70..80).
    """
    from ferocal.intake.placed import Place, enter_values
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    study = load_study(directory).on(bench)
    place = Place(configuration, workload, metric, number, visit, parse_time(date), version)
    counts = enter_values(study, place, values)
    click.echo(
        f"recorded {counted(counts['readings'], 'reading')} of {workload} with {configuration}, "
        f"in {counted(counts['visits'], 'visit')}"
    )
    click.echo("next: more of them, then `ferocal compare`")
