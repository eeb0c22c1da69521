"""``ferocal note``: keep what numbers do not show."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, json_option, print_json, say, study_option
from ferocal.cli.place import date_option, parse_time

if TYPE_CHECKING:
    from ferocal.ledger.records import Note


@click.command("note")
@study_option
@click.argument("text", required=False)
@click.option("--configuration", metavar="NAME", help="The note is on this configuration.")
@click.option("--workload", metavar="NAME", help="The note is on this workload.")
@click.option("--run", metavar="ID", help="The note is on this run.")
@click.option("--source", metavar="TEXT", help='Where that is from, such as "screenshot of 3 May".')
@date_option
@json_option
@example('ferocal note "no sound" --configuration r64+vulkan')
def command(
    directory: Path,
    text: str | None,
    configuration: str | None,
    workload: str | None,
    run: str | None,
    source: str | None,
    date: str | None,
    as_json: bool,
) -> None:
    """Keep what numbers do not show: no sound, flicker, a crash.

    A note is on a configuration, a workload, a run or several of these, or on the whole study.
    Without TEXT, all notes are listed. The report shows them.
    """
    from ferocal.ledger.opening import open_ledger, read_ledger
    from ferocal.ledger.reading.notes import read_notes
    from ferocal.ledger.reading.runs import resolve_run_ids
    from ferocal.ledger.records import Note
    from ferocal.ledger.writing.notes import add_note
    from ferocal.study.load import load_study

    given = (configuration, workload, run, source, date)
    if text is None and any(value is not None for value in given):
        raise click.UsageError("a note needs a text")
    if as_json and text is not None:
        raise click.UsageError("--json lists notes; it does not go with a new one")
    study = load_study(directory)
    if text is None:
        with read_ledger(directory) as ledger:
            _list(read_notes(ledger), as_json)
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


def _list(notes: list[tuple[str, Note]], as_json: bool) -> None:
    from ferocal.render.notes import note_lines

    if as_json:
        from ferocal.render.documents import NOTES

        print_json(NOTES.make(notes))
        return
    for line in note_lines(notes) or ['no notes yet; `ferocal note "no sound"` keeps one']:
        say(line)
