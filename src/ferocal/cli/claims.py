"""``ferocal claims``: what was claimed beforehand, beside the readings."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import Publication, reading_command


@click.command("claims")
@reading_command
@click.option(
    "--gate",
    type=click.Choice(["refuted", "supported"]),
    is_flag=False,
    flag_value="refuted",
    help='Exit with 3 if a claim is refuted; "supported": unless all are supported.',
)
@click.option("--detail", is_flag=True, help="Every claim, with its date and its p-value.")
@example("ferocal claims --gate supported")
def command(publish: Publication, directory: Path, gate: str | None, detail: bool) -> None:
    """Show which claims the readings support or refute.

    Claims are written in the study file, under [claim.NAME]. The ledger records each claim as it
    was when first seen, by this command or when something was measured; a claim stated or changed
    after the first reading is marked as such. The claims of a study are tested as one family.
    """
    import ferocal
    from ferocal.documents.claims import claims_document, gate_lines
    from ferocal.intake.keeping import keep_claims

    opened = ferocal.open(directory)
    problem = keep_claims(opened.study)
    answer = opened.claims().answer
    publish(
        lambda: claims_document(answer, detail=detail, problem=problem),
        "claims.ClaimsObject",
        answer,
    )
    lines = gate_lines(answer, gate) if gate else []
    for line in lines:
        say(line, err=True)
    if lines:
        sys.exit(3)
