"""``ferocal inspect``: the study as understood."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from ferocal.study.load import Study


@click.command("inspect")
@study_option
@json_option
@click.option("--schema", is_flag=True, help="Print the JSON Schema of study files, for editors.")
@example("ferocal inspect --study my-study")
def command(directory: Path, as_json: bool, schema: bool) -> None:
    """Show the study as it is understood.

    The bench, the configurations with their levels, the workloads with their metrics,
    and the order and number of the runs. Nothing is run and nothing is written.
    """
    if schema:
        from ferocal.study.model import StudyFile

        print_json(StudyFile.model_json_schema())
        return
    from ferocal.study.load import load_study

    study = load_study(directory)
    described = _describe(study)
    if as_json:
        print_json(described)
    else:
        _show(study, described)


def _describe(study: Study) -> dict[str, Any]:
    from dataclasses import asdict

    from ferocal.bench.facts import probe_facts
    from ferocal.plan.order import round_order

    head = study.head
    names = [configuration.name for configuration in study.configurations]
    return {
        "question": head.question,
        "margin": head.margin,
        "baseline": study.baseline,
        "bench": {"name": study.bench, "declared": study.declared_facts, **asdict(probe_facts())},
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
        "rounds": [round_order(names, r, head.seed) for r in range(1, head.rounds + 1)],
        "runs": len(names) * head.rounds * head.runs * len(study.workloads),
        "warmups": len(names) * head.rounds * sum(w.warmups for w in study.workloads.values()),
    }


def _show(study: Study, described: dict[str, Any]) -> None:
    from ferocal.report.numbers import margin_text
    from ferocal.report.tables import plain_table

    console = make_console()
    head = study.head
    console.print(head.question, style="bold")
    console.print(f"margin {margin_text(head.margin)}, baseline {study.baseline}\n")
    bench = plain_table(f"bench {study.bench}", "")
    for kind in ("declared", "hardware", "software"):
        for name, value in described["bench"][kind].items():
            bench.add_row(name, str(value))
    console.print(bench)
    levels = plain_table("configuration", *study.file.factor, "brings", "proof")
    for c in study.configurations:
        brings = [f"{name}={value}" for name, value in c.environment.items()]
        brings += [" ".join(c.prefix)] if c.prefix else []
        proof = "\n".join(f"{check.expected}" for _, check in c.verify) or "none"
        levels.add_row(c.name, *c.levels.values(), "\n".join(brings) or "–", proof)
    console.print(levels)
    workloads = plain_table("workload", "metric", "read from", "warm-ups")
    for name, workload in study.workloads.items():
        for metric_name, metric in workload.metric.items():
            source = metric.model_dump(by_alias=True)["source"]
            origin = source if isinstance(source, str) else " ".join(next(iter(source.items())))
            primary = ", primary" if metric.primary else ""
            series = f"{metric_name}, {metric.unit}, {metric.better} is better{primary}"
            workloads.add_row(name, series, origin, str(workload.warmups))
    console.print(workloads)
    order = plain_table("round", "order of the visits", right=("round",))
    for number, names in enumerate(described["rounds"], 1):
        order.add_row(str(number), " → ".join(names))
    console.print(order)
    console.print(
        f"{described['runs']} runs and {described['warmups']} warm-ups; "
        "next: take them with `ferocal measure`"
    )
