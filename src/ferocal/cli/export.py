"""``ferocal export``: all readings with their context, for others."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, force_option, say, study_option


@click.command("export")
@study_option
@click.argument("output", metavar="FILE", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "--traces",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Write the traces too, one Parquet file each.",
)
@force_option
@example("ferocal export readings.csv --traces traces")
def command(directory: Path, output: Path, traces: Path | None, force: bool) -> None:
    """Write all readings with their context to a file.

    A long table as CSV, JSON or Parquet, by the name of the file: one reading per row, with
    configuration, levels, round, visit, run, unit and exclusion. `ferocal load` imports it without
    loss. A file .openmetrics has the readings that count as samples for monitoring.
    """
    from ferocal.answers.criteria import find_criteria_changes
    from ferocal.answers.export import exported_traces, readings_frame
    from ferocal.documents.changes import criteria_text
    from ferocal.ledger.opening import read_ledger
    from ferocal.ledger.reading.integrity import read_identity
    from ferocal.ledger.reading.sessions import read_criteria
    from ferocal.media.readings import check_output, write_readings, write_traces
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    check_output(output)
    study = load_study(directory)
    with read_ledger(directory) as ledger:
        frame = readings_frame(study, ledger)
        write_readings(frame, output, force=force)
        say(f"wrote {counted(len(frame), 'reading')} to {output} ({read_identity(ledger)})")
        for change in find_criteria_changes(study, read_criteria(ledger)):
            say(f"criteria changed: {criteria_text(change)}")
        if traces is not None:
            count = write_traces(exported_traces(ledger), traces, force=force)
            say(f"wrote {counted(count, 'trace')} to {traces}")
