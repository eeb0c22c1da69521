"""``ferocal combine``: one study of several."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import show


@click.command("combine")
@click.argument(
    "directories",
    nargs=-1,
    required=True,
    metavar="DIR…",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
)
@click.option(
    "-o",
    "--output",
    "target",
    required=True,
    metavar="DIR",
    type=click.Path(path_type=Path, file_okay=False),
    help="Directory to create for the combined study (must not exist).",
)
@click.option(
    "--map",
    "mappings",
    multiple=True,
    metavar="DIR:KIND.OLD=NEW",
    help="Rename a bench, configuration or workload of a study; "
    "DIR:factor.NAME=LEVEL adds a level of a factor it lacks.",
)
@click.option(
    "--question", metavar="TEXT", help="Question of the combined study.  [that of the first]"
)
@click.option("--yes", is_flag=True, help="Do not ask before writing.")
@example("ferocal combine spring autumn -o year --map autumn:bench.node=node-2")
def command(
    directories: tuple[Path, ...],
    target: Path,
    mappings: tuple[str, ...],
    question: str | None,
    yes: bool,
) -> None:
    """Combine several studies into one.

    Benches, configurations and workloads with the same name are the same, and so are
    configurations with the same levels; --map overrides that. The mapping is shown first, with
    contradicting units, versions, facts and dates, and written after confirmation. The studies
    themselves are not changed; runs found in several are taken once. Programs and files that
    commands need are not copied.
    """
    from ferocal.documents.intake import brought_lines, combination_document
    from ferocal.intake.combining import combine_studies, plan_combination

    combined = plan_combination(directories, mappings, question)
    show(combination_document(combined))
    if not yes:
        if not sys.stdin.isatty():
            say(f"nothing was written; add --yes to create {target}")
            return
        if not click.confirm(f"Create {target} as shown?"):
            say("nothing was written")
            return
    for line in brought_lines(combine_studies(combined, target)):
        say(line)
    say(f"next  ferocal compare --study {target}; benches against each other: --across benches")
