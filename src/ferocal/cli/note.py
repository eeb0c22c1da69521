"""``ferocal note``: what numbers do not show."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say
from ferocal.cli.place import date_option, parse_time
from ferocal.cli.publishing import Publication, reading_command


@click.command("note")
@reading_command
@click.argument("text", required=False)
@click.option("--configuration", metavar="NAME", help="Configuration that the note is about.")
@click.option("--workload", metavar="NAME", help="Workload that the note is about.")
@click.option("--run", metavar="ID", help="Run that the note is about.")
@click.option("--source", metavar="TEXT", help='Source, such as "screenshot of 3 May".')
@date_option
@example('ferocal note "no sound" --configuration r64+vulkan')
def command(
    publish: Publication,
    directory: Path,
    text: str | None,
    configuration: str | None,
    workload: str | None,
    run: str | None,
    source: str | None,
    date: str | None,
) -> None:
    """Attach a note, such as "no sound" or "screen flickers".

    A note is about a configuration, a workload, a run or several of these, or about the whole
    study. Without TEXT, all notes are listed. The report shows them.
    """
    from ferocal.documents.runs import notes_document
    from ferocal.ledger.opening import read_ledger
    from ferocal.ledger.reading.additions import read_notes
    from ferocal.ledger.reading.runs import resolve_run_ids
    from ferocal.ledger.records import Note
    from ferocal.ledger.writing.additions import add_note
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.study.load import load_study

    given = (configuration, workload, run, source, date)
    if text is None and any(value is not None for value in given):
        raise click.UsageError("a note needs a text")
    if text is not None and (publish.format != "text" or publish.output is not None):
        raise click.UsageError("--format, --json and --output list notes: leave out the text")
    study = load_study(directory)
    if text is None:
        with read_ledger(directory) as ledger:
            notes = read_notes(ledger)
        publish(lambda: notes_document(notes), "runs.NotesObject", notes)
        return
    if configuration is not None:
        study.configuration(configuration)
    if workload is not None:
        study.workload(workload)
    note = Note(text, configuration, workload, run, parse_time(date) or None, source)
    with open_ledger(directory, create=True, mask=study.mask) as ledger:
        if run is not None:
            resolve_run_ids(ledger, [run])
        add_note(ledger, note)
    say(f"noted on {note.subject}")
