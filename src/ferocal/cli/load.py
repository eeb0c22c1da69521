"""``ferocal load``: readings and traces from files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, make_console, study_option

if TYPE_CHECKING:
    from ferocal.intake.loading import Loaded
    from ferocal.study.load import Study


@click.command("load")
@study_option
@click.argument(
    "files",
    nargs=-1,
    required=True,
    metavar="FILE...",
    type=click.Path(path_type=Path, dir_okay=False),
)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="ROLE=NAME",
    help='What a column is, such as "configuration=OS".',
)
@click.option("--preview", is_flag=True, help="Show what would be recorded, and record nothing.")
@click.option("--again", is_flag=True, help="Load a file once more that was loaded before.")
@click.option("--trace", metavar="METRIC", help="The files are captures of a trace of one run.")
@click.option("--separate", is_flag=True, help="With --trace: every file is a run of its own.")
@click.option("--configuration", metavar="NAME", help="With --trace: of this configuration.")
@click.option("--workload", metavar="NAME", help="With --trace: of this workload.")
@click.option("--round", "number", type=click.IntRange(min=1), help="With --trace: its round.")
@click.option("--visit", metavar="NAME", help="With --trace: its visit.")
@example("ferocal load scores.csv --column configuration=OS --preview")
def command(
    directory: Path,
    files: tuple[Path, ...],
    columns: tuple[str, ...],
    preview: bool,
    again: bool,
    trace: str | None,
    separate: bool,
    configuration: str | None,
    workload: str | None,
    number: int | None,
    visit: str | None,
) -> None:
    """Bring in readings and traces from files.

    CSV with any common delimiter, JSON, JSON Lines, Parquet, and XLSX or ODS. A long table
    has a reading per row: configuration (or a column per factor), workload, metric, value,
    and where known unit, round, visit, run, started_at. A wide one has a workload per row and
    a configuration per column. All or nothing: one wrong row, and nothing is recorded.
    """
    from ferocal.study.load import load_study

    study = load_study(directory)
    if trace is None:
        if configuration or workload or number or visit or separate:
            raise click.UsageError(
                "--configuration, --workload, --round, --visit and --separate go with --trace"
            )
        _load(study, files, columns, preview, again)
        return
    if columns or preview or not configuration or not workload:
        raise click.UsageError(
            "--trace needs --configuration and --workload, and no --column or --preview"
        )
    from ferocal.intake.placed import Place
    from ferocal.intake.trace_loading import load_trace
    from ferocal.wording import counted

    place = Place(configuration, workload, trace, number, visit)
    counts = load_trace(study, place, files, again=again, separate=separate)
    click.echo(
        f"recorded {counted(counts['runs'], 'run')} with {counted(counts['traces'], 'capture')} "
        f"and {counted(counts['readings'], 'reading')} of {trace}"
    )
    click.echo("next: `ferocal frames` and `ferocal soak` show traces")


def _load(
    study: Study, files: tuple[Path, ...], columns: tuple[str, ...], preview: bool, again: bool
) -> None:
    from ferocal.intake.loading import load_files
    from ferocal.wording import counted

    work = "reading and checking" if preview else "reading, checking and recording"
    with make_console(stderr=True).status(work):
        loaded = load_files(study, files, columns=columns, preview=preview, again=again)
    for one in loaded:
        counts = one.counts
        verb = "would record" if preview else "recorded"
        click.echo(
            f"{one.path}: {verb} {counted(counts['readings'], 'reading')} of "
            f"{counted(counts['runs'], 'run')} in {counted(counts['visits'], 'visit')}"
            + (f", and {counted(counts['traces'], 'trace')}" if counts["traces"] else "")
        )
        if one.twins:
            click.echo(
                f"  rows that repeat another one: {one.twins:,}; they count as runs of "
                "their own; take them out if they are copies, or name the runs in a column `run`"
            )
        if preview:
            _show(study, one)
    click.echo(
        "next: the same without --preview records it" if preview else "next: `ferocal compare`"
    )


def _show(study: Study, loaded: Loaded) -> None:
    """The first readings as they are understood."""
    from ferocal.report.tables import plain_table

    intake, metrics = loaded.intake, study.metrics()
    names = [c.name for c in study.configurations]
    table = plain_table("configuration", "workload", "metric", "value", "round", "visit", "run")
    for n in range(min(12, len(intake.value))):
        workload, metric, own = metrics[int(intake.series_of[n])]
        number = int(intake.round[n])
        table.add_row(
            names[int(intake.configuration_of[n])],
            workload,
            metric,
            f"{intake.value[n]:.12g} {own.unit}",
            str(number) if number > 0 else "",
            intake.visit[n],
            intake.run[n],
        )
    make_console().print(table)
