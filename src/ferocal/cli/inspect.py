"""``ferocal inspect``: the study as understood."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from ferocal.study.load import Study
    from ferocal.study.model import Level


@click.command("inspect")
@study_option
@json_option
@click.option("--schema", is_flag=True, help="Print the JSON Schema of study files, for editors.")
@click.option("--overhead", is_flag=True, help="Measure what Ferocal adds to what it measures.")
@example("ferocal inspect --study my-study")
def command(directory: Path, as_json: bool, schema: bool, overhead: bool) -> None:
    """Show the study as it is understood.

    The bench, the configurations with their levels, the workloads with their metrics,
    and the order and number of the runs. Nothing of the study is run and nothing is written.
    """
    if schema:
        from ferocal.study.model import StudyFile

        print_json(StudyFile.model_json_schema())
        return
    if overhead:
        _show_overhead(directory)
        return
    from ferocal.study.load import load_study

    study = load_study(directory)
    described = _describe(study)
    if as_json:
        print_json(described)
    else:
        _show(study, described)


def _describe(study: Study) -> dict[str, Any]:
    from ferocal.bench.facts import declared_facts, read_facts
    from ferocal.plan.order import by_round, plan_study

    head = study.head
    visits = plan_study(study)
    facts = [*declared_facts(study.bench_table.facts, "study file"), *read_facts()]
    return {
        "question": head.question,
        "margin": head.margin,
        "baseline": study.baseline,
        "schedule": head.schedule,
        "bench": {"name": study.bench, "facts": [vars(fact) for fact in facts]},
        "configurations": [
            {
                "name": c.name,
                "levels": c.levels,
                "environment": c.environment,
                "prefix": list(c.prefix),
                "checks": [f"{level} {check.expected}" for level, check in c.verify],
            }
            for c in study.configurations
        ],
        "workloads": {
            name: workload.model_dump(mode="json", by_alias=True)
            for name, workload in study.workloads.items()
        },
        "impossible": list(study.design.impossible),
        "rounds": list(by_round(visits).values()),
        "runs": len(visits) * head.runs * len(study.workloads),
        "warmups": len(visits) * sum(w.warmups for w in study.workloads.values()),
    }


def _steps(level: Level) -> list[str]:
    """What brings a level besides environment and prefix, in words."""
    steps = [f"switch: {' '.join(step.words)}" for step in level.switch]
    steps += [f"operator: {level.hold}"] if level.hold else []
    return steps + ([f"note: {level.note}"] if level.note else [])


def _show_overhead(directory: Path) -> None:
    """Measure what measuring adds, and print it."""
    from ferocal.bench.execution import local_executor
    from ferocal.bench.overhead import measure_overhead

    with local_executor() as executor:
        overhead = measure_overhead(executor, directory)
    click.echo(f"a program that does nothing, median of {overhead.runs} runs, reads as")
    click.echo(f"  wall time    {1000 * overhead.wall:.2f} ms")
    if overhead.cpu is not None:
        click.echo(f"  CPU time     {1000 * overhead.cpu:.2f} ms")
    if overhead.peak_memory is not None:
        click.echo(f"  peak memory  {overhead.peak_memory / 2**20:.1f} MiB")
    click.echo("no more than this is added to what is measured; it is kept with every session")


def _show(study: Study, described: dict[str, Any]) -> None:
    from ferocal.report.numbers import margin_text
    from ferocal.report.tables import order_table, plain_table

    console = make_console()
    head = study.head
    console.print(head.question, style="bold")
    console.print(f"margin {margin_text(head.margin)}, baseline {study.baseline}\n")
    bench = plain_table(f"bench {study.bench}", "")
    for fact in described["bench"]["facts"]:
        bench.add_row(fact["name"], fact["value"])
    console.print(bench)
    levels = plain_table("configuration", *study.file.factor, "brings", "proof")
    for c in study.configurations:
        brings = [f"{name}={value}" for name, value in c.environment.items()]
        brings += [" ".join(c.prefix)] if c.prefix else []
        brings += [text for f, name in c.levels.items() for text in _steps(study.level(f, name))]
        proof = "\n".join(f"{check.expected}" for _, check in c.verify) or "none"
        levels.add_row(c.name, *c.levels.values(), "\n".join(brings) or "–", proof)
    console.print(levels)
    if study.design.impossible:
        console.print(f"impossible, and skipped: {', '.join(study.design.impossible)}\n")
    workloads = plain_table("workload", "metric", "read from", "warm-ups")
    for name, workload in study.workloads.items():
        for metric_name, metric in workload.metric.items():
            source = metric.model_dump(by_alias=True, exclude_none=True).get("source")
            if source is None:
                origin = f"operator, {metric.read}" if metric.kind == "value" else "loaded"
            else:
                origin = source if isinstance(source, str) else " ".join(next(iter(source.items())))
            primary = ", primary" if metric.primary else ""
            series = f"{metric_name}, {metric.unit}, {metric.better} is better{primary}"
            workloads.add_row(name, series, origin, str(workload.warmups))
    console.print(workloads)
    console.print(order_table(dict(enumerate(described["rounds"], 1))))
    console.print(
        f"{described['runs']} runs and {described['warmups']} warm-ups; "
        "next: take them with `ferocal measure`"
    )
