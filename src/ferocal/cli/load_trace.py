"""``ferocal load-trace``: captures from elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import ROUND, example, make_console, say, study_option
from ferocal.cli.place import (
    again_option,
    bench_option,
    date_option,
    files_argument,
    parse_time,
    preview_option,
)
from ferocal.terms.bounds import MOST_COUNTED

if TYPE_CHECKING:
    from ferocal.intake.trace_loading import LoadedTraces


@click.command("load-trace")
@study_option
@files_argument
@click.option("--configuration", required=True, metavar="NAME", help="Of this configuration.")
@click.option("--workload", required=True, metavar="NAME", help="Of this workload.")
@click.option("--metric", default="", metavar="NAME", help="If the workload has several traces.")
@click.option("--column", metavar="NAME", help="The column of the values, if not as declared.")
@click.option(
    "--skip", type=click.IntRange(0, MOST_COUNTED), metavar="N", help="Leave out the first N."
)
@click.option("--unit", metavar="UNIT", help="The unit of the values, if not the metric's.")
@click.option("--separate", is_flag=True, help="Every file is a run of its own.")
@click.option("--round", "number", type=ROUND, metavar="N", help="Its round.")
@click.option("--visit", metavar="NAME", help="Its visit: runs with one name belong together.")
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
    """Bring in captures of a trace from elsewhere.

    Several files are captures of one run, or with --separate each of a run of its own. Columns
    are those that the study file names; where none is named, a file holds a number per line.
    Files can be of any format that `ferocal load` takes. What `ferocal export --traces` wrote
    says itself of which run it is: load that with `ferocal load`.
    """
    from ferocal.intake.placed import Place
    from ferocal.intake.trace_loading import CaptureForm, load_traces
    from ferocal.study.load import load_study

    study = load_study(directory).on(bench)
    place = Place(configuration, workload, metric, number, visit, parse_time(date))
    form = CaptureForm(column, skip, unit)
    loaded = load_traces(study, place, files, form, again=again, separate=separate, preview=preview)
    _show(loaded, preview=preview)


def _show(loaded: LoadedTraces, *, preview: bool) -> None:
    from ferocal.terms.wording import counted

    if preview:
        from ferocal.render.intake import captures_table

        make_console().print(captures_table(loaded))
    verb = "would record" if preview else "recorded"
    counts = loaded.counts
    say(
        f"{verb} {counted(counts['runs'], 'run')} with {counted(counts['traces'], 'capture')} "
        f"and {counted(counts['readings'], 'reading')}"
    )
    say(
        "next: the same without --preview records it"
        if preview
        else "next: `ferocal frames` and `ferocal soak` show traces"
    )
