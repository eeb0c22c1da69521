"""Noise floors as text and as a JSON object."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import share_of
from ferocal.documents.blocks import Document, make_table, next_steps, sentences
from ferocal.documents.numbers import percent
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.ledger.records import NoiseFloorRecord


def noise_floors_document(records: Sequence[NoiseFloorRecord], *, brought: bool) -> Document:
    """Noise floors that were imported just now, or all that are known."""
    numbers = ("visit SD", "degrees", "runs")
    rows = []
    for record in records:
        sd = math.sqrt(record.variance)
        spread = (
            percent(share_of(sd))
            if record.scale == "ratio"
            else f"{significant(sd, 2)} {record.unit}"
        )
        place = (record.bench, record.workload, record.metric)
        cells = (spread, str(record.degrees), f"{record.runs:.3g}")
        rows.append([*place, *cells, record.measured_at[:10] or "unknown", record.source])
    heads = ("bench", "workload", "metric", *numbers, "measured", "source")
    caption = (
        "visit SD: standard deviation between visits; degrees: its degrees of freedom; the latest "
        "of several counts"
    )
    count = counted(len(records), "noise floor")
    return Document(
        "",
        (
            sentences([f"imported {count}" if brought else f"{count} known"]),
            make_table(heads, rows, right=numbers, caption=caption),
            next_steps(("compare with them", "ferocal compare")),
        ),
    )
