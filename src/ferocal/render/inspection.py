"""A study as it is understood, as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table

from ferocal.render.console import show_beside
from ferocal.render.noise_look import look_lines
from ferocal.render.numbers import margin_text
from ferocal.render.tables import direction, plain_table
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.inspection import Inspection
    from ferocal.bench.overhead import Overhead
    from ferocal.study.metrics import Metric

_MOST_NAMED = 5
_MOST_WORKLOADS = 20


def show_inspection(console: Console, inspection: Inspection) -> None:
    """Print what is varied, what is run, and on what."""
    console.print(inspection.question, style="bold", end="\n\n")
    for line in _answer(inspection):
        show_beside(console, "", [line], margin=0)
    console.print()
    levels = plain_table("factor", "level", "brings", "proof")
    for number, view in enumerate(inspection.levels):
        first = not number or inspection.levels[number - 1].factor != view.factor
        brings = "\n".join(view.brings) or "–"
        levels.add_row(
            view.factor if first else "", view.level, brings, "\n".join(view.checks) or "none"
        )
    console.print(levels)
    console.print(_workloads(inspection))
    for name, declared in inspection.benches.items():
        facts = [f"{fact.name} {fact.value}" for fact in declared]
        show_beside(
            console, "", [f"bench {name}: {', '.join(facts) or 'no declared facts'}"], margin=0
        )
    facts = [f"{fact.name} {fact.value}" for fact in inspection.machine]
    here = ", ".join(facts) or "only keeps what operators read; its facts are no bench's"
    show_beside(console, "", [f"this machine: {here}"], margin=0)
    for look in inspection.looks:
        sentence = next(look_lines(look.figures))
        text = f"noise of {look.bench}, seen on {look.at[:10]}: {sentence}"
        show_beside(console, "", [text], margin=0)
    console.print()
    show_beside(console, "next", ["the order of the visits, and what they can tell: ferocal plan"])


def _answer(inspection: Inspection) -> Iterator[str]:
    """How many configurations, and what is done with each of them."""
    names = [c.name for c in inspection.configurations]
    others = [name for name in names if name != inspection.baseline]
    shown = listed(others) if 0 < len(others) <= _MOST_NAMED else f"{len(others)} others"
    margin = margin_text(inspection.margin)
    yield f"{inspection.baseline} (baseline) against {shown}, margin {margin}"
    workloads = counted(len(inspection.workloads), "workload")
    warmups = f" and {counted(inspection.warmups, 'warm-up')}" if inspection.warmups else ""
    visits = sum(map(len, inspection.rounds))
    yield (
        f'{workloads}, {counted(visits, "visit")} by schedule "{inspection.schedule}": '
        f"{counted(inspection.runs, 'run')}{warmups}"
    )
    if inspection.impossible:
        yield f"impossible, and skipped: {', '.join(inspection.impossible)}"


def _workloads(inspection: Inspection) -> Table:
    """What is run and read, in groups."""
    table = plain_table("workload", "metric", "read from", "role", "warm-ups", right=("warm-ups",))
    groups = list(dict.fromkeys(w.section for w in inspection.workloads.values()))
    ordered = sorted(inspection.workloads.items(), key=lambda item: groups.index(item[1].section))
    group = ""
    for name, workload in ordered[:_MOST_WORKLOADS]:
        if workload.section != group:
            group = workload.section
            table.add_row(f"— {group} —" if group else "")
        for number, (metric_name, metric) in enumerate(workload.metric.items()):
            series = f"{metric_name}, {metric.unit}, {direction(metric.better)}"
            warmups = "" if number else str(workload.warmups)
            place = "" if number else name
            table.add_row(place, series, _origin(metric), metric.role, warmups)
    if len(ordered) > _MOST_WORKLOADS:
        table.add_row(f"{len(ordered) - _MOST_WORKLOADS} more, which --json lists")
    return table


def _origin(metric: Metric) -> str:
    """Where a metric is read from, in words."""
    source = metric.model_dump(by_alias=True, exclude_none=True).get("source")
    if metric.formula is not None:
        return f"computed: {metric.formula}"
    if source is None:
        return f"operator, {metric.read}" if metric.trace_kind is None else "loaded"
    return source if isinstance(source, str) else " ".join(map(str, next(iter(source.items()))))


def overhead_lines(overhead: Overhead) -> list[str]:
    """What measuring adds, line by line."""
    lines = [
        f"a program that does nothing, median of {overhead.runs} runs, reads as",
        f"  wall time    {1000 * overhead.wall:.2f} ms",
    ]
    if overhead.cpu is not None:
        lines.append(f"  CPU time     {1000 * overhead.cpu:.2f} ms")
    if overhead.peak_memory is not None:
        lines.append(f"  peak memory  {overhead.peak_memory / 2**20:.1f} MiB")
    lines.append("no more than this is added to what is measured; it is kept with every session")
    return lines
