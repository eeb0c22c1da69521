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
    parse_time,
    preview_option,
)
from ferocal.cli.publishing import show
from ferocal.terms.bounds import MOST_COUNTED

if TYPE_CHECKING:
    from ferocal.intake.trace_loading import LoadedTraces


@click.command("load-trace")
@study_option
@files_argument
@click.option(
    "--configuration", required=True, metavar="NAME", help="Configuration of the captures."
)
@click.option("--workload", required=True, metavar="NAME", help="Workload of the captures.")
@click.option(
    "--metric", default="", metavar="NAME", help="Metric, if the workload has several traces."
)
@click.option("--column", metavar="NAME", help="Column with the values.  [as in the study file]")
@click.option(
    "--skip", type=click.IntRange(0, MOST_COUNTED), metavar="N", help="Skip the first N values."
)
@click.option("--unit", metavar="UNIT", help="Unit of the values.  [that of the metric]")
@click.option("--separate", is_flag=True, help="Treat every file as a separate run.")
@click.option("--round", "number", type=ROUND, metavar="N", help="Round of the run.")
@click.option(
    "--visit", metavar="NAME", help="Visit of the run; the same name means the same visit."
)
@bench_option
@date_option
@preview_option
@again_option
@example("ferocal load-trace one.csv two.csv --configuration r64+opengl --workload dome-flight")
def command(
    directory: Path,
    files: tuple[Path, ...],
    configuration: str,
    workload: str,
    metric: str,
    column: str | None,
    skip: int | None,
    unit: str | None,
    separate: bool,
    number: int | None,
    visit: str | None,
    bench: str | None,
    date: str | None,
    preview: bool,
    again: bool,
) -> None:
    """Import captures of a trace.

    Several files are captures of one run, or with --separate each of a separate run. Columns are
    those named in the study file; without any, a file holds one number per line. Files can have
    any format that `ferocal load` accepts. Traces written by `ferocal export --traces` identify
    their run: import them with `ferocal load`.
    """
    from ferocal.intake.placed import ReadingPlace
    from ferocal.intake.trace_loading import CaptureForm, load_traces
    from ferocal.study.load import load_study

    study = load_study(directory).on(bench)
    place = ReadingPlace(configuration, workload, metric, number, visit, parse_time(date))
    form = CaptureForm(column, skip, unit)
    loaded = load_traces(study, place, files, form, again=again, separate=separate, preview=preview)
    _show(loaded, preview=preview)


def _show(loaded: LoadedTraces, *, preview: bool) -> None:
    from ferocal.terms.wording import counted

    if preview:
        from ferocal.documents.blocks import Document
        from ferocal.documents.intake import captures_table

        show(Document("", (captures_table(loaded),)))
    verb = "would record" if preview else "recorded"
    counts = loaded.counts
    say(
        f"{verb} {counted(counts['runs'], 'run')} with {counted(counts['traces'], 'capture')} "
        f"and {counted(counts['readings'], 'reading')}"
    )
    say("next: repeat without --preview" if preview else "next: `ferocal frames` or `ferocal soak`")
