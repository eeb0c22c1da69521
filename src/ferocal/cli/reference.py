"""``ferocal reference``: published results, and where ours stand among them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, say, study_option
from ferocal.cli.publishing import Publication, reading_command, selection_options

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection


@click.group("reference", invoke_without_command=True)
@reading_command
@selection_options("metric", "workload", "configuration", "bench")
@click.option(
    "--search",
    default="",
    metavar="TEXT",
    help="Only references with this in device, source or date.",
)
@click.option(
    "--all",
    "everything",
    is_flag=True,
    help="List all references, not only those near our results.",
)
@click.pass_context
@example("ferocal reference --search brochure")
def command(
    context: click.Context,
    publish: Publication,
    directory: Path,
    selection: Selection,
    search: str,
    everything: bool,
) -> None:
    """Place your results among published ones.

    References are context: no runs are behind them and no verdict uses them. Your results are
    ranked among them with their own uncertainty, the best first.
    """
    context.obj = directory
    if context.invoked_subcommand is not None:
        return
    import ferocal
    from ferocal.documents.references import references_document

    answer = ferocal.open(directory).references(selection=selection, search=search)
    everything = everything or bool(search)
    publish(
        lambda: references_document(answer, everything=everything),
        "reference.ReferencesObject",
        answer,
    )


@command.command("add")
@study_option
@click.argument(
    "file", required=False, type=click.Path(path_type=Path, dir_okay=False), metavar="[FILE]"
)
@click.option("--device", metavar="NAME", help="The device that was measured.")
@click.option("--metric", metavar="NAME", help='What was measured, such as "kiosk-page score".')
@click.option("--value", metavar="TEXT", help="A number, a range such as 340..360, or a bound.")
@click.option("--unit", metavar="UNIT", help="Unit of the value.  [that of the metric]")
@click.option("--source", metavar="TEXT", help="Where the result was published.")
@click.option("--date", metavar="TIME", help="When it was measured or published, if known.")
@click.option("--retrieved", metavar="TIME", help="When you looked it up.")
@click.pass_obj
@example('ferocal reference add --device "Larkspur 2" --metric kiosk-page --value 355 --source …')
def add(
    parent: Path,
    directory: Path,
    file: Path | None,
    device: str | None,
    metric: str | None,
    value: str | None,
    unit: str | None,
    source: str | None,
    date: str | None,
    retrieved: str | None,
) -> None:
    """Add a published result, or those of a file.

    A FILE has a row for each, with the columns device, metric, value and source, and where known
    workload, unit, date and retrieved. All or nothing: one wrong row, and nothing is
    recorded. The latest of several for one device, metric and source counts.
    """
    from ferocal.intake.references import BadReferenceError, load_references, make_reference
    from ferocal.ledger.writing.additions import add_references
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    given = {
        "device": device, "metric": metric, "value": value, "unit": unit, "source": source,
        "date": date, "retrieved": retrieved,
    }  # fmt: skip
    named = {key: text for key, text in given.items() if text is not None}
    if (file is None) == (not named):
        raise click.UsageError("give a FILE, or --device, --metric, --value and --source")
    study = load_study(directory if directory != Path() else parent)
    try:
        found = [make_reference(study, named)] if file is None else load_references(study, file)
    except BadReferenceError as error:
        raise click.UsageError(f"--{error}") from None
    with open_ledger(study.directory, create=True, mask=study.mask) as ledger:
        add_references(ledger, found)
    say(f"recorded {counted(len(found), 'reference')}; next: ferocal reference")
