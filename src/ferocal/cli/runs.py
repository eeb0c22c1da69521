"""``ferocal runs``: every run, listed and filtered."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import ROUND, example
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.command("runs")
@reading_command
@selection_options("metric", "workload", "configuration", "bench")
@click.option("--round", "round_number", type=ROUND, metavar="N", help="Only runs of this round.")
@click.option("--outcome", metavar="WORD", help="Only this outcome: ok, failed, timeout, …")
@click.option("--excluded", is_flag=True, help="Only excluded runs.")
@click.option("--all", "everything", is_flag=True, help="All runs, however many.")
@click.option("--warmups", is_flag=True, help="Include warm-ups.")
@example("ferocal runs --workload dome-flight --metric frame-rate")
def command(
    publish: Publication,
    directory: Path,
    selection: Selection,
    round_number: int | None,
    outcome: str | None,
    excluded: bool,
    warmups: bool,
    everything: bool,
) -> None:
    """List runs with their readings, in order of time.

    The id in the first column is what `ferocal exclude` and `ferocal restore` take. Runs that
    failed or are excluded appear among the others, with the reason. From a long list the runs
    that do not count and the latest ones are shown. With --metric, each reading is drawn on a
    common scale, so that drift, outliers and modes are visible.
    """
    from ferocal.answers.runs import RunFilter, list_runs
    from ferocal.documents.runs import runs_document
    from ferocal.study.load import load_study

    wanted = RunFilter(round_number, outcome, excluded, warmups)
    listing = list_runs(load_study(directory), selection, wanted)
    metric = selection.metrics[0] if len(selection.metrics) == 1 else None
    publish(
        lambda: runs_document(listing, metric, everything=everything), "runs.RunListObject", listing
    )
