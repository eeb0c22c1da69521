"""``ferocal load``: readings from files."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, make_console, say, study_option
from ferocal.cli.place import again_option, bench_option, files_argument, preview_option


@click.command("load")
@study_option
@files_argument
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="ROLE=NAME",
    help='What a column is, such as "configuration=OS".',
)
@bench_option
@preview_option
@again_option
@click.option("--only-new", is_flag=True, help="Leave out rows that are in the ledger already.")
@example("ferocal load scores.csv --column configuration=OS --preview")
def command(
    directory: Path,
    files: tuple[Path, ...],
    columns: tuple[str, ...],
    bench: str | None,
    preview: bool,
    again: bool,
    only_new: bool,
) -> None:
    """Bring in readings from files.

    CSV with any common delimiter, JSON, JSON Lines, Parquet, and XLSX or ODS. A long table
    has a reading per row: configuration (or a column per factor), workload, metric, value,
    and where known unit, bench, round, visit, run, started_at, statistic, samples. A wide one
    has a workload per row and a configuration per column. Cells may be ranges (70..80) and
    bounds (>38000), or say that there is nothing (n/a, -, not active). Traces that `ferocal
    export` wrote are taken too, and captures from elsewhere by `ferocal load-trace`. All or
    nothing: one wrong row, and nothing is recorded.

    Of a file that has grown, --only-new records the rows that are not in the ledger yet. Rows are
    the same if configuration, workload, metric, value and what else both state are.
    """
    from ferocal.intake.loading import load_files
    from ferocal.render.intake import loaded_lines, readings_table
    from ferocal.study.load import load_study

    if again and only_new:
        raise click.UsageError("--again takes every row and --only-new some: use one of them")
    study = load_study(directory).on(bench)
    work = "reading and checking" if preview else "reading, checking and recording"
    with make_console(stderr=True).status(work):
        loaded = load_files(
            study, files, columns=columns, preview=preview, again=again, only_new=only_new
        )
    for source in loaded:
        for line in loaded_lines(source, preview=preview):
            say(line)
        if preview and len(source.intake.value):
            make_console().print(readings_table(study, source))
    say("next: the same without --preview records it" if preview else "next: `ferocal compare`")
