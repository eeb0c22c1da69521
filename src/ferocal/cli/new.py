"""``ferocal new``: a study file to start from."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import show
from ferocal.cli.tables import make_options, settle, table_options

if TYPE_CHECKING:
    from ferocal.intake.beginning import Order
    from ferocal.intake.tables.options import TableOptions


@click.command("new")
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option("--by-hand", is_flag=True, help="A study whose numbers an operator reads.")
@click.option(
    "--from",
    "sources",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Build the study from a file of readings, and import them; may be repeated.",
)
@click.option("--baseline", metavar="NAME", help="With --from: the baseline configuration.")
@table_options
@click.option(
    "--factor",
    "factors",
    multiple=True,
    metavar="NAME",
    help="With --from: a column with the levels of a factor; may be repeated.",
)
@click.option(
    "--order",
    type=click.Choice(["time", "file"]),
    help="With --from: the levels are releases, in order of their dates or as they come.",
)
@click.option("--preview", is_flag=True, help="With --from: show how the files are read, only.")
@example("ferocal new my-study && cd my-study && ferocal measure")
def command(
    directory: Path,
    by_hand: bool,
    sources: tuple[Path, ...],
    baseline: str | None,
    factors: tuple[str, ...],
    order: Order | None,
    preview: bool,
    **table: Any,
) -> None:
    """Write a small study file to start from.

    Creates DIR if needed; never overwrites a study file. The study runs as written, and its
    comments explain what to change.

    With --from, configurations, workloads and metrics come from files of readings, so `ferocal
    compare` works immediately. What the files do not state is guessed, and each guess is listed.
    With --order the levels of the first --factor, or the configurations, are releases for
    `ferocal series`: each has the earliest date of its readings, and one is enough to begin with.
    """
    if not sources and (baseline or factors or order or preview or any(table.values())):
        raise click.UsageError("--baseline, --factor, --order and options of tables need --from")
    if sources and by_hand:
        raise click.UsageError("--from and --by-hand exclude each other")
    where = "" if directory == Path() else f" --study {directory}"
    if sources:
        options = make_options(factors, **table)
        if preview:
            _preview(sources, settle(options, sources, None, preview=True), baseline, order)
            return
        alone = _from_files(directory, sources, options, baseline, order)
        lead = factors[0] if factors else "configuration"
        if alone is not None and not order:
            say(f"next: bring another configuration: `ferocal load FILE --add{where}`")
        else:
            say(f"next: `ferocal {f'series {lead}' if order else 'compare'}{where}`")
        return
    from ferocal.study.template import BY_HAND, TEMPLATE, write_template

    say(f"wrote {write_template(directory, BY_HAND if by_hand else TEMPLATE)}")
    say(f"next: edit it, look at it with `ferocal inspect{where}`, then")
    say(f"      take the readings with `ferocal measure{where}`")


def _from_files(
    directory: Path,
    sources: tuple[Path, ...],
    options: TableOptions,
    baseline: str | None,
    order: Order | None,
) -> str | None:
    """Begin a study from files; the only configuration, None where there are several."""
    from ferocal.documents.intake import loaded_notes
    from ferocal.intake.loading import load_files
    from ferocal.intake.starting import describe_files, study_in_the_making
    from ferocal.study.load import STUDY_FILE, load_study
    from ferocal.terms.wording import counted

    options = settle(options, sources, None, preview=False)
    beginning = describe_files(sources, options, baseline, order)
    with study_in_the_making(directory, beginning.text) as making:
        loaded = load_files(load_study(making), sources, options=options, begun=True)
    path = directory / STUDY_FILE
    count = sum(part.counts["readings"] for part in loaded)
    named = ", ".join(map(str, sources))
    say(f"wrote {path}, with {counted(count, 'reading')} of {named}")
    for part in loaded:
        unused = tuple(name for name in part.unused if name not in beginning.criteria)
        for line in loaded_notes(replace(part, unused=unused)):
            say(line)
    for guess in beginning.guesses:
        say(f"guessed: {guess}")
    if len(beginning.configurations) > 1:
        return None
    name = beginning.configurations[0]
    say(f"{name} is the only configuration; there is nothing to compare yet")
    return name


def _preview(
    sources: tuple[Path, ...], options: TableOptions, baseline: str | None, order: Order | None
) -> None:
    """Show how files are read and what they do not say, and write nothing."""
    from ferocal.documents.blocks import Document
    from ferocal.documents.intake import read_rows, reading_document
    from ferocal.intake.loading import load_files
    from ferocal.intake.starting import describe_files
    from ferocal.intake.tables.entry import read_readings
    from ferocal.study.load import load_study
    from ferocal.study.template import write_template
    from ferocal.terms.files import scratch_directory

    readings = [read_readings(source, options, None).reading for source in sources]
    for reading in readings:
        if reading is not None:
            show(Document("", (*reading_document(reading).blocks, read_rows(reading))))
    beginning = describe_files(sources, options, baseline, order)
    for guess in beginning.guesses:
        say(f"guessed: {guess}")
    # What is doubtful is shown above with what settles it; whatever else is wrong is refused here.
    if not any(reading is not None and reading.doubts for reading in readings):
        with scratch_directory() as place:
            write_template(place, beginning.text)
            load_files(load_study(place), sources, options=options, preview=True, begun=True)
    say("next: repeat without --preview")
