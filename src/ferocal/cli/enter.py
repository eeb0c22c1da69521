"""``ferocal enter``: readings taken earlier or elsewhere, in one line."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import ROUND, SAMPLES, example, say, study_option
from ferocal.cli.place import bench_option, date_option, operator_option, parse_time


@click.command("enter", context_settings={"ignore_unknown_options": True})
@study_option
@click.argument("workload", metavar="WORKLOAD")
@click.argument("values", nargs=-1, required=True, metavar="VALUE...")
@click.option(
    "--configuration",
    required=True,
    metavar="NAME",
    help="Configuration the readings were taken with.",
)
@click.option("--metric", default="", metavar="NAME", help="Metric, if the workload has several.")
@click.option("--round", "number", type=ROUND, metavar="N", help="Round of the reading.")
@click.option(
    "--visit", metavar="NAME", help="Visit of the reading; the same name means the same visit."
)
@bench_option
@click.option(
    "--statistic",
    type=click.Choice(["single", "mean", "median", "best"]),
    help="How the value was obtained from several samples.  [as in the study file]",
)
@click.option("--samples", type=SAMPLES, metavar="N", help="Number of samples behind the value.")
@click.option("--version", metavar="TEXT", help="Version of the workload.")
@date_option
@operator_option
@example("ferocal enter dome-flight --configuration halden-5 rate=57.2 stutters=40")
def command(
    directory: Path,
    workload: str,
    values: tuple[str, ...],
    configuration: str,
    metric: str,
    number: int | None,
    visit: str | None,
    bench: str | None,
    statistic: str | None,
    samples: int | None,
    version: str | None,
    date: str | None,
    operator: str | None,
) -> None:
    """Record readings taken earlier or elsewhere.

    Several values are several runs, of one visit if --round or --visit says so; calls that name
    the same visit add to it. Write several metrics of one run as NAME=VALUE. A value may have a
    unit (21400ms) or a decimal comma; it may be a range from a moving display (70..80), a value
    that settled within one ("75 (70..80)"), the range of repeats ("330..340 of 5"), a duration
    (3:25) or a bound (">38000"), with a note ("31 (warm)"). Write n/a for a missing value,
    with a reason if there is one ("n/a: no sound"), or "not active".
    """
    from ferocal.documents.intake import odd_lines, ratio_lines
    from ferocal.intake.placed import GivenStatistic, ReadingPlace, enter_values
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    study = load_study(directory).on(bench)
    place = ReadingPlace(configuration, workload, metric, number, visit, parse_time(date), version)
    counts, odd, ratios = enter_values(
        study, place, values, GivenStatistic(statistic, samples), operator=operator
    )
    where = f"in {counted(counts['visits'], 'visit')}" if counts["visits"] else f"to visit {visit}"
    absent = f" and {counts['absences']} without a value" if counts["absences"] else ""
    say(
        f"recorded {counted(counts['readings'], 'reading')}{absent} of {workload} with "
        f"{configuration}, {where}"
    )
    for line in (*odd_lines(odd), *ratio_lines(ratios)):
        say(line)
    say("next: enter more, then `ferocal compare`")
