"""``ferocal reference``: results from elsewhere, and where we stand among them."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    say,
    selection_options,
    study_option,
)


@click.group("reference", invoke_without_command=True)
@study_option
@json_option
@selection_options("metric", "workload", "configuration", "bench")
@click.option("--search", default="", metavar="TEXT", help="Only with this device, source or date.")
@click.option("--all", "everything", is_flag=True, help="The whole list, not only around ours.")
@click.pass_context
@example("ferocal reference --search brochure")
def command(
    context: click.Context,
    directory: Path,
    as_json: bool,
    metrics: tuple[str, ...],
    workloads: tuple[str, ...],
    configurations: tuple[str, ...],
    benches: tuple[str, ...],
    search: str,
    everything: bool,
) -> None:
    """Show where we stand among results from elsewhere.

    References are kept for context: no runs are behind them, and they are in no verdict. What
    was measured here is ranked among them with its own uncertainty, the best first.
    """
    context.obj = directory
    if context.invoked_subcommand is not None:
        return
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.references import show_references

    selection = Selection(configurations, workloads, metrics, benches)
    answer = ferocal.open(directory).references(selection=selection, search=search)
    if as_json:
        from ferocal.render.reference_documents import REFERENCES

        print_json(REFERENCES.make(answer))
    else:
        show_references(make_console(), answer, everything=everything or bool(search))


@command.command("add")
@study_option
@click.argument(
    "file", required=False, type=click.Path(path_type=Path, dir_okay=False), metavar="[FILE]"
)
@click.option("--device", metavar="NAME", help="Of what the result is.")
@click.option("--metric", metavar="NAME", help='Such as "kiosk-page score".')
@click.option("--value", metavar="TEXT", help="A number, a range such as 340..360, or a bound.")
@click.option("--unit", metavar="UNIT", help="Its unit.  [that of the metric]")
@click.option("--source", metavar="TEXT", help="Who says so.")
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
    """Keep a result from elsewhere, or those of a file.

    A FILE has a row for each, with the columns device, metric, value and source, and where known
    workload, unit, date and retrieved. All or nothing: one wrong row, and nothing is kept.
    Of several for one device, metric and source the latest counts.
    """
    from ferocal.intake.references import BadReferenceError, load_references, make_reference
    from ferocal.ledger.opening import open_ledger
    from ferocal.ledger.writing.references import add_references
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
    say(f"kept {counted(len(found), 'reference')}; where we stand: ferocal reference")
