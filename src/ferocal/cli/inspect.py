"""``ferocal inspect``: the study as understood."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, json_option, make_console, print_json, say, study_option


@click.command("inspect")
@study_option
@json_option
@click.option("--schema", is_flag=True, help="Print the JSON Schema of study files, for editors.")
@click.option("--overhead", is_flag=True, help="Measure what Ferocal adds to what it measures.")
@example("ferocal inspect --study my-study")
def command(directory: Path, as_json: bool, schema: bool, overhead: bool) -> None:
    """Show the study as it is understood.

    The benches, the configurations with their levels, the workloads with their metrics,
    and the order and number of the runs. Nothing of the study is run and nothing is written.
    """
    if schema:
        from ferocal.study.model import StudyFile

        print_json(StudyFile.model_json_schema())
        return
    if overhead:
        _show_overhead(directory)
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


def _show_overhead(directory: Path) -> None:
    """Measure what measuring adds, and print it."""
    from ferocal.bench.execution import local_executor
    from ferocal.bench.overhead import measure_overhead
    from ferocal.render.inspection import overhead_lines

    with local_executor() as executor:
        overhead = measure_overhead(executor, directory)
    for line in overhead_lines(overhead):
        say(line)
