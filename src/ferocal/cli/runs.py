"""``ferocal runs``: every run, listed and filtered."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    ROUND,
    example,
    json_option,
    make_console,
    print_json,
    selection_options,
    study_option,
)


@click.command("runs")
@study_option
@json_option
@selection_options()
@click.option("--round", "round_number", type=ROUND, metavar="N", help="Only of this round.")
@click.option("--outcome", metavar="WORD", help="Only with this outcome: ok, failed, overran, …")
@click.option("--excluded", is_flag=True, help="Only runs that are excluded.")
@click.option("--all", "everything", is_flag=True, help="All runs, however many they are.")
@click.option("--warmups", is_flag=True, help="Warm-ups too.")
@example("ferocal runs --workload dome-flight --metric frame-rate")
def command(
    directory: Path,
    as_json: bool,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    metrics: tuple[str, ...],
    benches: tuple[str, ...],
    round_number: int | None,
    outcome: str | None,
    excluded: bool,
    warmups: bool,
    everything: bool,
) -> None:
    """List every run with its readings, in order of time.

    The id in the first column is what `ferocal exclude` and `ferocal restore` take. Runs
    that failed or are excluded stand among the others, with the reason. Of many runs those
    are listed that do not count, and the last ones. With --metric only
    its readings are shown, each as a mark on a common scale, so that drift, outliers and
    modes can be seen.
    """
    from ferocal.answers.runs import RunFilter, list_runs
    from ferocal.answers.selection import Selection
    from ferocal.render.runs import show_runs
    from ferocal.study.load import load_study

    listing = list_runs(
        load_study(directory),
        Selection(configurations, workloads, metrics, benches),
        RunFilter(round_number, outcome, excluded, warmups),
    )
    if as_json:
        from ferocal.render.documents import RUNS

        print_json(RUNS.make(listing))
    else:
        metric = metrics[0] if len(metrics) == 1 else None
        show_runs(make_console(), listing, metric, everything=everything)
