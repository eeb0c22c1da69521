"""Which files hold readings from elsewhere, and where these belong: what commands share."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from ferocal.cli.common import say
from ferocal.terms.bounds import FIRST_YEAR, LAST_YEAR, is_time
from ferocal.terms.times import in_utc, lacks_zone

files_argument = click.argument(
    "files",
    nargs=-1,
    required=True,
    metavar="FILE...",
    type=click.Path(path_type=Path, dir_okay=False),
)
preview_option = click.option(
    "--preview", is_flag=True, help="Show what would be recorded without recording it."
)
again_option = click.option(
    "--again", is_flag=True, help="Import rows that are already in the ledger as further runs."
)
operator_option = click.option(
    "--operator",
    envvar="FEROCAL_OPERATOR",
    metavar="NAME",
    help="Who does it, for the history.  [$FEROCAL_OPERATOR]",
)
bench_option = click.option("--bench", metavar="NAME", help="Bench, if the study has several.")
date_option = click.option(
    "--date", metavar="TIME", help="Date or time, such as 2026-05-01 or 2026-05-01T14:30."
)


def parse_time(text: str | None) -> str:
    """A date or time as ISO 8601 in UTC, "" for none; without a zone it is taken as that, and told.

    Raises
    ------
    click.BadParameter
        When the text is not a time.
    """
    if text is None:
        return ""
    if not is_time(text):
        raise click.BadParameter(
            f'"{text}" is not a time in ISO 8601, like 2026-05-01T14:30, in the years '
            f"{FIRST_YEAR} to {LAST_YEAR}",
            param_hint="--date",
        )
    moment = datetime.fromisoformat(text)
    if lacks_zone(text) and "T" in text.replace(" ", "T"):
        say(f'"{text}" has no zone, and is taken as UTC; write it like 2026-05-01T14:30+02:00')
    return in_utc(moment, zone_known=not lacks_zone(text))


def parse_span(text: str | None, option: str) -> float | None:
    """A duration such as "30 min" in seconds, None for none.

    Raises
    ------
    click.BadParameter
        When the text is not one.
    """
    from ferocal.study.quantities import parse_duration

    if text is None:
        return None
    try:
        return parse_duration(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint=option) from None
