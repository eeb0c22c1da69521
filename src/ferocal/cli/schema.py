"""``ferocal schema``: JSON Schemas of the study file and of what commands print."""

from __future__ import annotations

import click

from ferocal.cli.common import example, print_json


@click.command("schema")
@click.argument("name", metavar="study|COMMAND")
@example("ferocal schema study > study.schema.json")
def command(name: str) -> None:
    """Print the JSON Schema of the study file or of an output.

    NAME is "study", for editors of study files, or what stands before --json, such as "compare"
    or "compare --between api" (in quotes).
    """
    if name == "study":
        from ferocal.study.model import StudyFile

        print_json(StudyFile.model_json_schema())
        return
    from ferocal.documents.objects.index import OBJECTS

    if name not in OBJECTS:
        known = ", ".join(f'"{known}"' if " " in known else known for known in OBJECTS)
        raise click.UsageError(f'no output is called "{name}"; known: study, {known}')
    print_json(OBJECTS[name].json_schema())
