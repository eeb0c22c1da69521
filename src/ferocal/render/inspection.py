"""A study as it is understood, as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich.console import Console

from ferocal.render.numbers import margin_text
from ferocal.render.tables import direction, order_table, plain_table

if TYPE_CHECKING:
    from ferocal.answers.inspection import Inspection
    from ferocal.bench.overhead import Overhead
    from ferocal.study.metrics import Metric


def show_inspection(console: Console, inspection: Inspection) -> None:
    """Print benches, configurations, workloads and order."""
    console.print(inspection.question, style="bold")
    console.print(f"margin {margin_text(inspection.margin)}, baseline {inspection.baseline}\n")
    _show_benches(console, inspection)
    levels = plain_table("configuration", *inspection.factors, "brings", "proof")
    for c in inspection.configurations:
        proof = "\n".join(expected for _, expected in c.checks) or "none"
        levels.add_row(c.name, *c.levels.values(), "\n".join(c.brings) or "–", proof)
    console.print(levels)
    if inspection.impossible:
        console.print(f"impossible, and skipped: {', '.join(inspection.impossible)}\n")
    workloads = plain_table("workload", "metric", "read from", "warm-ups")
    for name, workload in inspection.workloads.items():
        for metric_name, metric in workload.metric.items():
            primary = ", primary" if metric.primary else ""
            series = f"{metric_name}, {metric.unit}, {direction(metric.better)}{primary}"
            workloads.add_row(name, series, _origin(metric), str(workload.warmups))
    console.print(workloads)
    console.print(order_table(dict(enumerate(inspection.rounds, 1))))
    console.print(
        f"{inspection.runs} runs and {inspection.warmups} warm-ups; "
        "next: take them with `ferocal measure`"
    )


def _show_benches(console: Console, inspection: Inspection) -> None:
    # What is read by hand may be of any bench: this machine only keeps it.
    elsewhere = all(workload.by_hand for workload in inspection.workloads.values())
    several = len(inspection.benches) > 1 or elsewhere
    for name, declared in inspection.benches.items():
        table = plain_table(f"bench {name}", "")
        for fact in (*declared, *(() if several else inspection.machine)):
            table.add_row(fact.name, fact.value)
        console.print(table)
    if several:
        machine = plain_table("this machine", "")
        for fact in inspection.machine:
            machine.add_row(fact.name, fact.value)
        console.print(machine)


def _origin(metric: Metric) -> str:
    """Where a metric is read from, in words."""
    source = metric.model_dump(by_alias=True, exclude_none=True).get("source")
    if source is None:
        return f"operator, {metric.read}" if metric.trace_kind is None else "loaded"
    return source if isinstance(source, str) else " ".join(map(str, next(iter(source.items()))))


def inspection_object(inspection: Inspection) -> dict[str, Any]:
    """The object that `ferocal inspect --json` prints."""
    return {
        "question": inspection.question,
        "margin": inspection.margin,
        "baseline": inspection.baseline,
        "schedule": inspection.schedule,
        "benches": [
            {"name": name, "facts": [vars(fact) for fact in facts]}
            for name, facts in inspection.benches.items()
        ],
        "machine": [vars(fact) for fact in inspection.machine],
        "configurations": [
            {
                "name": c.name,
                "levels": c.levels,
                "environment": c.environment,
                "prefix": list(c.prefix),
                "checks": [f"{level} {expected}" for level, expected in c.checks],
            }
            for c in inspection.configurations
        ],
        "workloads": {
            name: workload.model_dump(mode="json", by_alias=True)
            for name, workload in inspection.workloads.items()
        },
        "impossible": list(inspection.impossible),
        "rounds": [list(names) for names in inspection.rounds],
        "runs": inspection.runs,
        "warmups": inspection.warmups,
    }


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
