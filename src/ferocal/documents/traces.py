"""Traces compared, with their curves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Chart, Document, sentences
from ferocal.documents.compare import comparison_document
from ferocal.documents.sessions import session_sentences
from ferocal.traces.soak import BIN

if TYPE_CHECKING:
    from ferocal.answers.traces import TraceAnswer, TraceCurves


def traces_document(answer: TraceAnswer, curves: Sequence[TraceCurves] = ()) -> Document:
    """The comparison of all parts of the traces of a kind, and their curves."""
    name = answer.kind.name
    steps = [("draw the curves", f"ferocal {name} -o {name}.svg")]
    document = comparison_document(answer.comparison, steps=steps)
    effects = [e for e in answer.comparison.effects if not e.control]
    found = [*session_sentences((e.configuration, e) for e in effects), *scaled_bins(curves)]
    notes = [sentences(found)] if found else []
    several = len({drawn.bench for drawn in curves}) > 1
    charts = [
        Chart(
            name,
            drawn,
            f"{drawn.metric.workload}: {drawn.metric.name}",
            (drawn.metric.workload, drawn.metric.name, *([drawn.bench] if several else [])),
        )
        for drawn in curves
    ]
    *blocks, steps_block = document.blocks
    return Document(document.question, (*blocks, *notes, *charts, steps_block))


def scaled_bins(curves: Sequence[TraceCurves]) -> list[str]:
    """What to say of soaks that are too short or too coarse for medians of ten seconds."""
    lines = []
    for drawn in curves:
        widths = {width for curve in drawn.curves for width in getattr(curve, "bins", ())}
        odd = sorted(width for width in widths if width != BIN)
        if odd:
            span = f"{odd[0]:.3g}" if len(odd) == 1 else f"{odd[0]:.3g} to {odd[-1]:.3g}"
            lines.append(
                f"{drawn.metric.workload} {drawn.metric.name}: traces are short or coarse: "
                f"medians of {span} s are used instead of {BIN:g} s, so onsets are less certain"
            )
    return lines
