"""Traces compared, with what happened in them and their curves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Chart, Document, sentences
from ferocal.documents.compare import comparison_document
from ferocal.documents.overview import shown_series
from ferocal.documents.soaks import course_blocks
from ferocal.traces.events import BIN
from ferocal.traces.kinds import START

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.compare import Comparison
    from ferocal.answers.traces import TraceAnswer, TraceCurves

# What of other channels stands beside the values.
_BESIDE = (f"-{START}", "-mean")


def traces_document(answer: TraceAnswer, *, detail: bool = False) -> Document:
    """The comparison of the parts of the traces of a kind, what happened in them, their curves.

    Of soaks those parts that decide and what was read beside; with ``detail`` all.
    """
    name = answer.kind.name
    steps = [("draw the curves", f"ferocal {name} -o {name}.svg")]
    comparison = answer.comparison
    if answer.kind.takes_sessions and not detail:
        comparison = replace(comparison, series=tuple(_shown(comparison)))
        steps.append(("every part of the traces", f"ferocal {name} --detail"))
    document = comparison_document(
        comparison,
        steps=steps,
        beneath=lambda b: course_blocks(answer, b) if answer.kind.takes_sessions else (),
    )
    found = scaled_bins(answer.curves)
    notes = [sentences(found)] if found else []
    several = len({drawn.bench for drawn in answer.curves}) > 1
    charts = [
        Chart(
            name,
            drawn,
            f"{drawn.metric.workload}: {drawn.metric.name}",
            (drawn.metric.workload, drawn.metric.name, *([drawn.bench] if several else [])),
        )
        for drawn in answer.curves
    ]
    *blocks, steps_block = document.blocks
    return Document(document.question, (*blocks, *notes, *charts, steps_block))


def _shown(comparison: Comparison) -> list[Series]:
    """What decides, what gets clearly worse, and what was read beside the values."""
    deciding = shown_series(replace(comparison, asked=False))
    return [s for s in comparison.series if s in deciding or s.metric.endswith(_BESIDE)]


def scaled_bins(curves: Sequence[TraceCurves]) -> list[str]:
    """What to say of soaks that are too short or too coarse for medians of ten seconds."""
    lines: dict[str, None] = {}
    for drawn in curves:
        widths = {width for curve in drawn.curves for width in getattr(curve, "bins", ())}
        odd = sorted(width for width in widths if width != BIN)
        if odd:
            span = f"{odd[0]:.3g}" if len(odd) == 1 else f"{odd[0]:.3g} to {odd[-1]:.3g}"
            lines[
                f"{drawn.metric.workload} {drawn.metric.name}: traces are short or coarse: "
                f"medians of {span} s are used instead of {BIN:g} s, so onsets are less certain"
            ] = None
    return list(lines)
