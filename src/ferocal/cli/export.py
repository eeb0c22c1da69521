"""``ferocal export``: all readings with their context, for others."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, study_option


@click.command("export")
@study_option
@click.argument("output", metavar="FILE", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "--traces",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Write the traces too, a Parquet file each.",
)
@example("ferocal export readings.csv --traces traces")
def command(directory: Path, output: Path, traces: Path | None) -> None:
    """Write all readings with their context into a file.

    A long table as CSV, JSON or Parquet, by the name of the file: a reading per row, with
    configuration, levels, round, visit, run, unit and exclusion. `ferocal load` takes it back
    without loss.
    """
    from ferocal.exporting import export_readings, export_traces
    from ferocal.wording import counted

    count = export_readings(directory, output)
    click.echo(f"wrote {counted(count, 'reading')} to {output}")
    if traces is not None:
        click.echo(f"wrote {counted(export_traces(directory, traces), 'trace')} to {traces}")
