"""``ferocal load-trace``: captures of other programs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import ROUND, example, say, study_option
from ferocal.cli.place import (
    again_option,
    bench_option,
    date_option,
    files_argument,
    operator_option,
    parse_span,
    parse_time,
    preview_option,
)
from ferocal.cli.publishing import show
from ferocal.errors import UsageError
from ferocal.terms.bounds import MOST_COUNTED
from ferocal.terms.units import TIME

if TYPE_CHECKING:
    from ferocal.intake.trace_loading import LoadedTraces
    from ferocal.intake.trace_text import Decimal


@click.command("load-trace")
@study_option
@files_argument
@click.option("--configuration", metavar="NAME", help="Configuration of the captures.")
@click.option("--workload", metavar="NAME", help="Workload of the captures, if it has several.")
@click.option(
    "--metric", default="", metavar="NAME", help="Metric, if the workload has several traces."
)
@click.option("--column", metavar="NAME", help="Column with the values.  [as in the study file]")
@click.option("--time", metavar="NAME", help="Column with the times, for soaks.  [recognised]")
@click.option("--time-unit", metavar="UNIT", help="Unit of the times, such as ms.  [s]")
@click.option("--interval", metavar="TIME", help="How far apart values are that have no times.")
@click.option("--stamps", is_flag=True, help="Values are times at which frames were shown.")
@click.option(
    "--decimal", type=click.Choice(["comma", "point"]), help="Decimal sign, where it is doubtful."
)
@click.option(
    "--skip", type=click.IntRange(0, MOST_COUNTED), metavar="N", help="Skip the first N values."
)
@click.option("--unit", metavar="UNIT", help="Unit of the values; fps for rates of single frames.")
@click.option("--separate", is_flag=True, help="Treat every file as a separate run.")
@click.option("--round", "number", type=ROUND, metavar="N", help="Round of the run.")
@click.option(
    "--visit", metavar="NAME", help="Visit of the run; the same name means the same visit."
)
@bench_option
@date_option
@preview_option
@again_option
@operator_option
@example("ferocal load-trace one.csv two.csv --configuration r64+opengl --workload dome-flight")
def command(
    directory: Path,
    files: tuple[Path, ...],
    configuration: str | None,
    workload: str | None,
    metric: str,
    column: str | None,
    time: str | None,
    time_unit: str | None,
    interval: str | None,
    stamps: bool,
    decimal: Decimal | None,
    skip: int | None,
    unit: str | None,
    separate: bool,
    number: int | None,
    visit: str | None,
    bench: str | None,
    date: str | None,
    preview: bool,
    again: bool,
    operator: str | None,
) -> None:
    """Import captures of a trace.

    Several files are captures of one run, or with --separate each of a separate run. Columns are
    those named in the study file; without any, a file holds one number per line, or its columns
    are recognised by their names and numbers: what was recognised is told, and what is not certain
    is refused. Files can have any format that `ferocal load` accepts. Traces written by
    `ferocal export --traces` identify their run: import them with `ferocal load`.

    A pattern loads many files in one call: "soak-{bench}-{firmware}-{visit}.csv" takes the bench,
    the level of the factor firmware and the visit of every file from its name. Fields are bench,
    configuration, workload, metric, visit, round, run and the factors of the study.
    """
    from ferocal.intake.placed import ReadingPlace
    from ferocal.intake.trace_loading import load_traces
    from ferocal.intake.trace_patterns import find_placed, is_pattern, place_files
    from ferocal.intake.trace_roles import CaptureForm
    from ferocal.study.load import load_study

    study = load_study(directory).on(bench)
    place = ReadingPlace(
        configuration or "",
        workload or "",
        metric,
        number,
        visit,
        parse_time(date),
    )
    if time_unit is not None and time_unit not in TIME:
        raise click.BadParameter(
            f'"{time_unit}" is not a unit of time; use {", ".join(TIME)}', param_hint="--time-unit"
        )
    apart = parse_span(interval, "--interval")
    form = CaptureForm(column, skip, unit, time, time_unit, apart, stamps, decimal)
    patterns = [str(file) for file in files if is_pattern(str(file))]
    placed = [group for pattern in patterns for group in find_placed(study, pattern, place)]
    plain = [file for file in files if not is_pattern(str(file))]
    if plain:
        if configuration is None:
            raise UsageError(
                "name the configuration of the captures with --configuration, or in a pattern of "
                'their names: "soak-{configuration}-{visit}.csv"'
            )
        placed += place_files(place, plain, separate=separate)
    loaded = load_traces(study, placed, form, again=again, preview=preview, operator=operator)
    _show(loaded, preview=preview)


def _show(loaded: LoadedTraces, *, preview: bool) -> None:
    from ferocal.terms.wording import counted

    if preview:
        from ferocal.documents.blocks import Document
        from ferocal.documents.intake import captures_table

        show(Document("", (captures_table(loaded),)))
    for line in loaded.said:
        say(f"recognised in {line}")
    verb = "would record" if preview else "recorded"
    counts = loaded.counts
    say(
        f"{verb} {counted(counts['runs'], 'run')} with {counted(counts['traces'], 'capture')} "
        f"and {counted(counts['readings'], 'reading')}"
    )
    say("next: repeat without --preview" if preview else "next: `ferocal frames` or `ferocal soak`")
