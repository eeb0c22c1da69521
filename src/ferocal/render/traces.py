"""Traces compared: as text, as a JSON object, as figures."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.comparison import show_comparison
from ferocal.render.console import show_beside
from ferocal.render.next_steps import NextStep
from ferocal.render.sessions import session_sentences
from ferocal.traces.soak import BIN

if TYPE_CHECKING:
    from ferocal.answers.traces import TraceAnswer, TraceCurves


def show_traces(console: Console, answer: TraceAnswer) -> None:
    """Print the comparison of all parts of the traces of a kind."""
    chart = NextStep("see the curves", f"ferocal {answer.kind.name} --chart {answer.kind.name}.png")
    show_comparison(console, answer.comparison, steps=[chart])
    effects = [e for e in answer.comparison.effects if not e.control]
    for sentence in session_sentences((e.configuration, e) for e in effects):
        show_beside(console, "", [sentence], margin=0)


def scaled_bins(curves: Sequence[TraceCurves]) -> list[str]:
    """What to say of soaks that are too short or too coarse for medians of ten seconds."""
    lines = []
    for drawn in curves:
        widths = {width for curve in drawn.curves for width in getattr(curve, "bins", ())}
        odd = sorted(width for width in widths if width != BIN)
        if odd:
            span = f"{odd[0]:.3g}" if len(odd) == 1 else f"{odd[0]:.3g} to {odd[-1]:.3g}"
            lines.append(
                f"{drawn.metric.workload} {drawn.metric.name}: traces are short or coarse, so "
                f"medians of {span} s stand for those of {BIN:g} s; onsets are less certain"
            )
    return lines


def draw_traces(curves: Sequence[TraceCurves], path: Path, *, force: bool = False) -> list[Path]:
    """Write a figure for each metric and bench; where there are several, named for them.

    Raises
    ------
    UsageError
        When the name of the file ends in something else than a known format.
    FerocalError
        When a file cannot be written.
    """
    # Drawing takes longer to load than all the rest.
    from ferocal.render.trace_figures import FIGURES, save_figure

    benches = {drawn.bench for drawn in curves}
    written = []
    for drawn in curves:
        metric = drawn.metric
        place = [drawn.bench] if len(benches) > 1 else []
        title = f"{metric.workload}: {metric.name}" + "".join(f", {bench}" for bench in place)
        target = path
        if len(curves) > 1:
            parts = [path.stem, metric.workload, metric.name, *place]
            target = path.with_name("-".join(parts) + path.suffix)
        figure = FIGURES[metric.kind.name](drawn.curves, title, metric.metric.unit)
        save_figure(figure, target, force=force)
        written.append(target)
    return written
