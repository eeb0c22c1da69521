"""``ferocal inspect``: the study as understood."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ferocal.cli.common import example, json_option, make_console, print_json, say, study_option


@click.command("inspect")
@study_option
@json_option
@click.option("--schema", is_flag=True, help="Print the JSON Schema of study files, for editors.")
@click.option("--overhead", is_flag=True, help="Measure what Ferocal adds to what it measures.")
@click.option(
    "--noise",
    type=click.FloatRange(min=1, max=3600),
    is_flag=False,
    flag_value=60.0,
    metavar="[SECONDS]",
    help="Look at what this bench can resolve, for a minute unless stated.",
)
@click.option(
    "--integrity", is_flag=True, help="Check that the ledger is as it was written, row by row."
)
@click.option(
    "--kept", is_flag=True, help="List what the ledger holds of what kind, before it is passed on."
)
@click.option("--bench", metavar="NAME", help="With --noise: which bench this machine is.")
@example("ferocal inspect --study my-study")
def command(
    directory: Path,
    as_json: bool,
    schema: bool,
    overhead: bool,
    noise: float | None,
    integrity: bool,
    kept: bool,
    bench: str | None,
) -> None:
    """Show the study as it is understood.

    The benches, the configurations with their levels, the workloads with their metrics,
    and the order and number of the runs. Nothing of the study is run and nothing is written.

    With --noise a fixed loop runs in many short processes: how much they vary, who else is busy,
    clock and power, the rounds that a change would need, and what to change first. These
    figures are kept with the study.

    With --integrity the exit status is 1 if anything in the ledger is not as it was written.
    """
    if noise is not None:
        _look(directory, bench, noise, as_json=as_json)
        return
    if schema:
        from ferocal.study.model import StudyFile

        print_json(StudyFile.model_json_schema())
        return
    if overhead:
        _show_overhead(directory)
        return
    if integrity:
        sys.exit(_check(directory, as_json=as_json))
    if kept:
        _list_kept(directory, as_json=as_json)
        return
    from ferocal.answers.inspection import inspect_study
    from ferocal.render.inspection import show_inspection
    from ferocal.study.load import load_study

    inspection = inspect_study(load_study(directory))
    if as_json:
        from ferocal.render.documents import INSPECTION

        print_json(INSPECTION.make(inspection))
    else:
        show_inspection(make_console(), inspection)


def _look(directory: Path, bench: str | None, seconds: float, *, as_json: bool) -> None:
    """Look at the noise of this machine, and print and keep what was seen."""
    from ferocal.measure.noise_look import take_look

    quiet = as_json or not sys.stderr.isatty()
    bar = click.progressbar(
        length=round(seconds), label="looking at this bench", file=sys.stderr, hidden=quiet
    )
    with bar:
        figures, kept = take_look(directory, bench, seconds, lambda s: bar.update(round(s)))
    if as_json:
        from ferocal.render.look_documents import LOOK

        print_json(LOOK.make((figures, kept)))
    else:
        from ferocal.render.noise_look import show_look

        show_look(make_console(), figures, kept)


def _check(directory: Path, *, as_json: bool) -> int:
    """Check the ledger and print what was found; the exit status."""
    from ferocal.answers.inspection import check_integrity
    from ferocal.render.integrity import INTEGRITY, show_integrity

    found = check_integrity(directory)
    if as_json:
        print_json(INTEGRITY.make(found))
    else:
        show_integrity(make_console(), found)
    return 1 if found.broken else 0


def _list_kept(directory: Path, *, as_json: bool) -> None:
    """Print what the ledger holds."""
    from ferocal.answers.inspection import list_holdings
    from ferocal.render.kept import KEPT, show_holdings

    held = list_holdings(directory)
    if as_json:
        print_json(KEPT.make(held))
    else:
        show_holdings(make_console(), held)


def _show_overhead(directory: Path) -> None:
    """Measure what measuring adds, and print it."""
    from ferocal.bench.execution import local_executor
    from ferocal.bench.overhead import measure_overhead
    from ferocal.render.inspection import overhead_lines

    with local_executor() as executor:
        overhead = measure_overhead(executor, directory)
    for line in overhead_lines(overhead):
        say(line)
