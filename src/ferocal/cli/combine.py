"""``ferocal combine``: one study of several."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ferocal.cli.common import example, make_console, say


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
    help="The new study; it is not there yet.",
)
@click.option(
    "--map",
    "mappings",
    multiple=True,
    metavar="DIR:KIND.OLD=NEW",
    help="Another name for a bench, configuration or workload of a study, or with "
    "DIR:factor.NAME=LEVEL the level of a factor that it does not have.",
)
@click.option("--question", metavar="TEXT", help="What is asked now.  [as in the first study]")
@click.option("--yes", is_flag=True, help="Write it without asking.")
@example("ferocal combine spring autumn -o year --map autumn:bench.node=node-2")
def command(
    directories: tuple[Path, ...],
    target: Path,
    mappings: tuple[str, ...],
    question: str | None,
    yes: bool,
) -> None:
    """Make one study of several, with all that was recorded.

    Benches, configurations and workloads of one name are the same, and configurations of the same
    levels; --map says otherwise. What goes where is shown first, with units, versions, facts and
    dates that contradict, and is written after a yes. The studies themselves stay as they are;
    runs that several have are taken once. Programs and files that commands need are not copied.
    """
    from ferocal.intake.combining import combine_studies, plan_combination
    from ferocal.render.combining import brought_lines, show_combination

    combined = plan_combination(directories, mappings, question)
    show_combination(make_console(), combined)
    if not yes:
        if not sys.stdin.isatty():
            say(f"nothing is written yet: the same with --yes makes {target}")
            return
        if not click.confirm(f"Make {target} so?"):
            say("nothing was written")
            return
    for line in brought_lines(combine_studies(combined, target)):
        say(line)
    say(f"next  ferocal compare --study {target}; benches against each other: --across benches")
