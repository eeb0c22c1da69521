"""``ferocal chart``: all metrics under all configurations in one figure."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, force_option, study_option
from ferocal.cli.publishing import (
    against_option,
    make_publication,
    output_option,
    selection_options,
)

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.command("chart")
@study_option
@against_option
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@output_option
@force_option
@example("ferocal chart -o chart.svg")
def command(
    directory: Path,
    against: str | None,
    selection: Selection,
    output: Path | None,
    force: bool,
) -> None:
    """Draw all metrics under all configurations.

    Every metric is a row on an axis of ratios, better always to the right, with intervals.
    Without --output the file is chart.svg in the study's directory. `ferocal table` has the
    numbers.
    """
    import ferocal
    from ferocal.documents.chart import chart_document

    publish = make_publication(None, False, output or directory / "chart.svg", force)
    charts = ferocal.open(directory).charts(against=against, selection=selection)
    publish.write(chart_document(charts))
