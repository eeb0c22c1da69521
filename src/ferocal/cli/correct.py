"""``ferocal correct``: a reading that was wrong."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, reason_option, say, study_option


@click.command("correct", context_settings={"ignore_unknown_options": True})
@study_option
@click.argument("run", metavar="RUN")
@click.argument("metric", metavar="METRIC")
@click.argument("value", metavar="VALUE")
@reason_option
@example('ferocal correct 3f9a12c07b time 21.4 --reason "a digit was missing"')
def command(directory: Path, run: str, metric: str, value: str, reason: str) -> None:
    """Correct a reading.

    RUN is an id that `ferocal runs` lists, or its beginning. The ledger keeps the previous value.
    VALUE may be anything that `ferocal enter` accepts.
    """
    from ferocal.documents.numbers import reading_text
    from ferocal.intake.keeping import correct
    from ferocal.study.load import load_study

    corrected = correct(load_study(directory), run, metric, value, reason)
    now, unit = corrected.now, corrected.unit
    ends = None if now.low is None or now.high is None else (now.low, now.high)
    say(
        f"{metric} of {corrected.run}: {reading_text(corrected.before)} {unit} is now "
        f"{reading_text(now.value, ends, now.bound or '')} {unit}"
    )
    say("next: `ferocal compare`")
