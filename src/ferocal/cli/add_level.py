"""``ferocal add-level``: a level more in the study file."""

from __future__ import annotations

import datetime
from pathlib import Path

import click

from ferocal.cli.common import example, say, study_option


@click.command("add-level")
@study_option
@click.argument("factor", metavar="FACTOR")
@click.argument("name", metavar="NAME")
@click.option("--like", metavar="LEVEL", help="Copy what this level has, with the new name in it.")
@click.option("--date", metavar="DATE", help="When it came out, such as 2026-11-30.")
@click.option("--note", metavar="TEXT", default="", help="What is to be remembered of it.")
@example("ferocal add-level firmware fw-1.12 --like fw-1.11 --date 2026-01-13")
def command(
    directory: Path, factor: str, name: str, like: str | None, date: str | None, note: str
) -> None:
    """Add a level to a factor, such as tonight's build.

    The level is written into the study file below the others of its factor; everything else there
    stays as it is, comments too. With --like it has whatever another level has, except its date and
    note, and wherever that level's name stands in it, the new one. A factor with order = "time"
    needs --date.
    """
    from ferocal.study.levels import add_level
    from ferocal.study.load import STUDY_FILE

    added = add_level(directory, factor, name, like=like, date=_date(date), note=note)
    say(f"added {name} to {factor} ({directory / STUDY_FILE}, line {added.line})")
    if added.missing:
        say(added.missing)
        return
    ordered = added.study.file.factor[factor].order is not None
    where = "" if directory == Path() else f" --study {directory}"
    paired = ordered and added.study.head.schedule == "rounds" and len(added.study.names) > 1
    against = " --against previous" if paired else ""
    say(f"next: `ferocal measure{where}{against}`")


def _date(text: str | None) -> datetime.date | None:
    if text is None:
        return None
    try:
        return datetime.date.fromisoformat(text)
    except ValueError:
        raise click.BadParameter(
            f'"{text}" is not a date; write it like 2026-11-30', param_hint="--date"
        ) from None
