"""``ferocal load``: readings from files."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, make_console, say, study_option
from ferocal.cli.place import (
    again_option,
    bench_option,
    files_argument,
    operator_option,
    preview_option,
)
from ferocal.cli.publishing import show
from ferocal.cli.tables import make_options, settle, table_options

if TYPE_CHECKING:
    from ferocal.intake.tables.options import TableOptions
    from ferocal.study.load import Study


@click.command("load")
@study_option
@files_argument
@table_options
@bench_option
@preview_option
@again_option
@operator_option
@click.option("--add", is_flag=True, help="Write configurations that are new into the study file.")
@click.option("--only-new", is_flag=True, help="Import only rows that are not in the ledger yet.")
@example("ferocal load scores.csv --column configuration=OS --preview")
def command(
    directory: Path,
    files: tuple[Path, ...],
    bench: str | None,
    preview: bool,
    again: bool,
    add: bool,
    only_new: bool,
    operator: str | None,
    **table: Any,
) -> None:
    """Import readings from files.

    CSV, spreadsheets, Markdown tables, JSON, JSON Lines, Parquet, and with --pattern logs. A table
    may have a reading, a run or a workload per row; columns for what they are of, for metrics with
    their units, for configurations or for repeats; titles, two header rows, sums and footnotes.
    --preview shows what each column and row is taken for, and why. What is doubtful is asked in a
    terminal, and refused elsewhere with the option that settles it. Traces written by `ferocal
    export` are imported too; other captures are for `ferocal load-trace`. One wrong row, and
    nothing is recorded.

    A configuration that the study lacks is asked for in a terminal, or written into the study file
    with --add, below the others; comments there stay.

    When a file has grown, --only-new imports the new rows and skips those already in the ledger.
    Rows are the same if configuration, workload, metric, value and all else that both state are.
    """
    from ferocal.documents.blocks import Document
    from ferocal.documents.intake import loaded_lines, reading_document, readings_table
    from ferocal.intake.exported import read_exported
    from ferocal.intake.loading import load_files
    from ferocal.study.load import load_study

    if again and only_new:
        raise click.UsageError("--again and --only-new exclude each other")
    study = load_study(directory).on(bench)
    work = "reading and checking" if preview else "reading, checking and recording"
    tables = [file for file in files if read_exported(file) is None]
    options = settle(make_options(**table), tables, study, preview=preview)
    study, added = _with_new(study, tables, options, add=add)
    with make_console(stderr=True).status(work):
        loaded = load_files(
            study, files, options=options, preview=preview, again=again, only_new=only_new,
            operator=operator, changed=bool(added),
        )  # fmt: skip
    for line in added:
        say(f"would add {line}" if preview else f"added {line}")
    for source in loaded:
        if preview and source.reading is not None:
            show(reading_document(source.reading))
        for line in loaded_lines(source, preview=preview):
            say(line)
        if preview and len(source.intake.value):
            show(Document("", (readings_table(study, source),)))
    say("next: repeat without --preview" if preview else "next: `ferocal compare`")


def _with_new(
    study: Study, files: Sequence[Path], options: TableOptions, *, add: bool
) -> tuple[Study, list[str]]:
    """The study with configurations that files have and it has not, and what was added."""
    from ferocal.intake.new_arms import find_new, with_new
    from ferocal.terms.wording import listed

    if not add and not sys.stdin.isatty():
        return study, []
    new = find_new(study, files, options)
    names = [f"{factor}={name}" for factor, name in new]
    if not new or not (add or click.confirm(f"Add {listed(names)} to the study file?")):
        return study, []
    return with_new(study, new), [f"{name} to the study file" for name in names]
