"""``ferocal claims``: what was said beforehand, beside what readings say."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ferocal.cli.common import example, json_option, make_console, print_json, say, study_option


@click.command("claims")
@study_option
@json_option
@click.option(
    "--gate",
    type=click.Choice(["refuted", "supported"]),
    is_flag=False,
    flag_value="refuted",
    help='Exit with 3 if a claim is refuted; with "supported" unless all are supported.',
)
@click.option("--detail", is_flag=True, help="Every claim, with when it was kept and its p-value.")
@example("ferocal claims --gate supported")
def command(directory: Path, as_json: bool, gate: str | None, detail: bool) -> None:
    """Say which claims the readings support or refute.

    Claims stand in the study file, under [claim.NAME]. One is kept in the ledger as it was
    when it was first seen, by this command or when something was measured; what is written
    or changed after the first reading says so for ever. The claims of a study are one family.
    """
    import ferocal
    from ferocal.intake.claims import keep_claims
    from ferocal.render.claims import gate_lines, show_claims

    opened = ferocal.open(directory)
    problem = keep_claims(opened.study)
    answer = opened.claims()
    if as_json:
        from ferocal.render.claim_documents import CLAIMS

        print_json(CLAIMS.make(answer))
    else:
        show_claims(make_console(), answer, detail=detail, problem=problem)
    lines = gate_lines(answer, gate) if gate else []
    for line in lines:
        say(line, err=True)
    if lines:
        sys.exit(3)
