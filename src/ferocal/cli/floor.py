"""``ferocal floor``: how much visits vary, known from an earlier study."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ferocal.ledger.records import FloorRecord


@click.command("floor")
@study_option
@json_option
@click.argument(
    "source",
    metavar="[EARLIER-STUDY]",
    required=False,
    type=click.Path(path_type=Path, file_okay=False, exists=True),
)
@example("ferocal floor ../control-of-may")
def command(directory: Path, as_json: bool, source: Path | None) -> None:
    """Bring in how much visits vary, from an earlier study.

    A change that cannot be undone has one visit before and one after. How much two visits
    differ by chance is then known only from elsewhere: from a study of the same bench with
    the same workloads that was measured in rounds, best with a control arm over ten rounds.
    Without EARLIER-STUDY, the noise floors that were brought in are listed.
    """
    from ferocal.noise import bring_floors, list_floors

    records = list_floors(directory) if source is None else bring_floors(directory, source)
    if as_json:
        print_json({"floors": [vars(record) for record in records]})
    else:
        _show(records, brought=source is not None)


def _show(records: Sequence[FloorRecord], *, brought: bool) -> None:
    from ferocal.report.numbers import percent, significant
    from ferocal.report.tables import plain_table
    from ferocal.wording import counted

    console = make_console()
    columns = ("visit SD", "degrees", "runs")
    table = plain_table("workload", "metric", *columns, "measured", "source", right=columns)
    for record in records:
        sd = math.sqrt(record.variance)
        spread = (
            percent(math.expm1(sd))
            if record.scale == "ratio"
            else f"{significant(sd, 2)} {record.unit}"
        )
        numbers = (spread, str(record.degrees), f"{record.runs:.3g}")
        date = record.measured_at[:10]
        table.add_row(record.workload, record.metric, *numbers, date, record.source)
    verb = "brought in" if brought else "known:"
    console.print(f"{verb} {counted(len(records), 'noise floor')}")
    console.print(table)
    console.print(
        "standard deviation of visit summaries, its degrees of freedom, and runs per visit; of "
        "several for one metric the latest counts. Next: `ferocal compare`"
    )
