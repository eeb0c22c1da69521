"""``ferocal repair``: a damaged ledger made readable."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, reason_option, say, study_option


@click.command("repair")
@study_option
@reason_option
@click.option(
    "--preview", is_flag=True, help="Show what would be set aside without changing anything."
)
@example('ferocal repair --reason "the disk failed" --preview')
def command(directory: Path, reason: str, preview: bool) -> None:
    """Set damaged rows of the ledger aside, and keep a copy.

    Use it when there is no undamaged copy of the ledger. A damaged run is removed with all of its
    readings, a damaged visit with its runs; the copy beside the ledger still has them, and a note
    records the damage. `ferocal measure` then takes the missing runs again.
    """
    from ferocal.ledger.opening import LEDGER_FILE
    from ferocal.ledger.writing.repair import repair_ledger
    from ferocal.study.load import load_study
    from ferocal.terms.wording import counted

    masked = load_study(directory).mask.text(reason)
    repaired = repair_ledger(directory / LEDGER_FILE, masked, preview=preview)
    if not repaired.damages:
        say("the ledger is intact")
        return
    for text in repaired.damages[:_SHOWN]:
        say(f"damaged: {text}")
    if len(repaired.damages) > _SHOWN:
        say(f"and {counted(len(repaired.damages) - _SHOWN, 'more place', 'more places')}")
    amounts = f"{counted(repaired.visits, 'visit')} and {counted(repaired.runs, 'run')}"
    if repaired.copy is None:
        say(f"would set aside {amounts}")
    else:
        say(f"set aside {amounts}; the ledger as it was is kept as {repaired.copy.name}")
        say("next: ferocal inspect --integrity")


_SHOWN = 12
