"""What ``ferocal frames`` and ``ferocal soak`` share: the comparison, and the curves."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.cli.common import Function
from ferocal.cli.publishing import (
    Publication,
    against_option,
    reading_command,
    selection_options,
)

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


def trace_command(function: Function) -> Function:
    """Add the options of a command that shows traces."""
    limited = selection_options("workload", "configuration", "bench")(function)
    return reading_command(against_option(limited))


def publish_kind(
    kind: str,
    publish: Publication,
    directory: Path,
    against: str | None,
    selection: Selection,
    *,
    detail: bool = False,
) -> None:
    """Publish the comparison of all metrics of a kind, with their curves where these are drawn."""
    import ferocal
    from ferocal.answers.evidence import gather
    from ferocal.answers.traces import compare_traces, find_trace_metrics, with_curves
    from ferocal.documents.traces import traces_document
    from ferocal.ledger.opening import read_ledger

    opened = ferocal.open(directory)
    find_trace_metrics(opened.study, kind, selection.workloads)  # before the ledger is read
    with read_ledger(directory) as ledger:
        evidence = gather(opened.study, ledger)
        answer = compare_traces(opened.study, evidence, kind, against=against, selection=selection)
        if publish.wants_charts or answer.kind.takes_sessions:
            answer = with_curves(answer, opened.study, ledger, evidence, selection)
    publish(lambda: traces_document(answer, detail=detail), "table.TraceObject", answer)
