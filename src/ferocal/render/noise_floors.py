"""Noise floors as text and as a JSON object."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.data.series import share_of
from ferocal.render.numbers import percent
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.ledger.records import NoiseFloorRecord


def show_noise_floors(
    console: Console, records: Sequence[NoiseFloorRecord], *, brought: bool
) -> None:
    """Print noise floors that were brought in just now, or all that are known."""
    numbers = ("visit SD", "degrees", "runs")
    table = plain_table(
        "bench", "workload", "metric", *numbers, "measured", "source", right=numbers
    )
    for record in records:
        sd = math.sqrt(record.variance)
        spread = (
            percent(share_of(sd))
            if record.scale == "ratio"
            else f"{significant(sd, 2)} {record.unit}"
        )
        place = (record.bench, record.workload, record.metric)
        cells = (spread, str(record.degrees), f"{record.runs:.3g}")
        table.add_row(*place, *cells, record.measured_at[:10] or "unknown", record.source)
    verb = "brought in" if brought else "known:"
    console.print(f"{verb} {counted(len(records), 'noise floor')}")
    console.print(table)
    console.print(
        "standard deviation of visit summaries, its degrees of freedom, and runs per visit; of "
        "several for one metric the latest counts. Next: `ferocal compare`"
    )
