"""``ferocal note``: keep what numbers do not show."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, json_option, print_json, study_option


@click.command("note")
@study_option
@click.argument("text", required=False)
@click.option("--configuration", metavar="NAME", help="The note is on this configuration.")
@click.option("--workload", metavar="NAME", help="The note is on this workload.")
@click.option("--run", metavar="ID", help="The note is on this run.")
@json_option
@example('ferocal note "no sound" --configuration r64+vulkan')
def command(
    directory: Path,
    text: str | None,
    configuration: str | None,
    workload: str | None,
    run: str | None,
    as_json: bool,
) -> None:
    """Keep what numbers do not show: no sound, flicker, a crash.

    A note is on a configuration, a workload or a run, or else on the whole study.
    Without TEXT, all notes are listed. The report shows them.
    """
    from ferocal.ledger.opening import open_ledger
    from ferocal.ledger.reading.notes import read_notes
    from ferocal.ledger.reading.runs import resolve_run_ids
    from ferocal.ledger.writing.notes import add_note
    from ferocal.study.load import load_study

    given = {"configuration": configuration, "workload": workload, "run": run}
    named = [(subject, name) for subject, name in given.items() if name is not None]
    if len(named) > 1 or (named and text is None):
        raise click.UsageError("a note needs a text, and one subject at most")
    if as_json and text is not None:
        raise click.UsageError("--json lists notes; it does not go with a new one")
    study = load_study(directory)
    with open_ledger(directory, create=text is not None) as ledger:
        if text is None:
            _list(read_notes(ledger), as_json)
            return
        subject, name = named[0] if named else ("study", "")
        if subject == "run":
            resolve_run_ids(ledger, [name])
        elif subject == "configuration":
            study.configuration(name)
        elif subject == "workload":
            study.workload(name)
        add_note(ledger, subject, name, text)
    click.echo(f"noted on {subject} {name}".rstrip())


def _list(notes: list[tuple[str, str, str, str]], as_json: bool) -> None:
    from ferocal.render.notes import note_lines, notes_object

    if as_json:
        print_json(notes_object(notes))
        return
    for line in note_lines(notes):
        click.echo(line)
