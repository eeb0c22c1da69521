"""``ferocal readings``: every run, listed and filtered."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from ferocal.ledger.annotate import RunRow


@click.command("readings")
@study_option
@json_option
@click.option("--configuration", metavar="NAME", help="Only of this configuration.")
@click.option("--workload", metavar="NAME", help="Only of this workload.")
@click.option("--round", "round_number", type=int, metavar="N", help="Only of this round.")
@click.option("--outcome", metavar="WORD", help="Only with this outcome: ok, failed, overran, …")
@click.option("--excluded", is_flag=True, help="Only runs that are excluded.")
@click.option("--warmups", is_flag=True, help="Warm-ups too.")
@example("ferocal readings --outcome failed")
def command(
    directory: Path,
    as_json: bool,
    configuration: str | None,
    workload: str | None,
    round_number: int | None,
    outcome: str | None,
    excluded: bool,
    warmups: bool,
) -> None:
    """List every run with its readings, in order of time.

    The id in the first column is what `ferocal exclude` and `ferocal restore` take.
    """
    from ferocal.ledger.annotate import read_runs
    from ferocal.ledger.opening import open_ledger

    with open_ledger(directory) as ledger:
        runs = read_runs(ledger)
    wanted = {
        "configuration": configuration,
        "workload": workload,
        "round": round_number,
        "outcome": outcome,
    }
    chosen = [
        run
        for run in runs
        if (warmups or not run.warmup)
        and (run.excluded is not None or not excluded)
        and all(value is None or getattr(run, key) == value for key, value in wanted.items())
    ]
    if as_json:
        print_json({"runs": [_run_object(run) for run in chosen]})
    else:
        _show(chosen, len(runs))


def _run_object(run: RunRow) -> dict[str, object]:
    values = {name: {"value": value, "unit": unit} for name, (value, unit) in run.values.items()}
    return {**vars(run), "values": values}


def _show(runs: list[RunRow], total: int) -> None:
    from ferocal.report.numbers import significant
    from ferocal.report.tables import plain_table

    console = make_console()
    table = plain_table("id", "round", "configuration", "workload", "readings", "outcome")
    for run in runs:
        values = ", ".join(f"{significant(v)} {unit}" for v, unit in run.values.values())
        outcome = f"{run.excuse or run.outcome}{' (warm-up)' if run.warmup else ''}"
        number = "" if run.round is None else str(run.round)
        table.add_row(run.id, number, run.configuration, run.workload, values, outcome)
    console.print(table)
    excluded = sum(run.excluded is not None for run in runs)
    console.print(f"{len(runs)} of {total} runs, warm-ups included; {excluded} of these excluded")
