"""``ferocal compare``: effects and verdicts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    show_left_out,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.assemble import Comparison


@click.command("compare")
@study_option
@json_option
@example("ferocal compare --json > effects.json")
def command(directory: Path, as_json: bool) -> None:
    """Say which configuration changes the scores, and by how much.

    Every configuration is compared with the baseline, metric by metric: the change of
    the measured value with its 95 % interval, and a verdict that says whether that is
    good: better, worse, equivalent (inside the margin) or inconclusive.
    """
    from ferocal.assemble import compare_directory

    comparison = compare_directory(directory)
    if as_json:
        from ferocal.report.json_form import comparison_object

        head = comparison.study.head
        print_json(
            comparison_object(
                comparison.effects,
                question=head.question,
                baseline=comparison.baseline,
                margin=head.margin,
                confidence=comparison.confidence,
                excluded=comparison.evidence.excluded,
            )
        )
    else:
        show_comparison(comparison)


def show_comparison(comparison: Comparison) -> None:
    """Print answer, table and caveats."""
    from ferocal.report.answer import answer, collect_caveats
    from ferocal.report.numbers import margin_text
    from ferocal.report.tables import effects_table

    console = make_console()
    head = comparison.study.head
    console.print(head.question, style="bold")
    console.print(answer(comparison.effects) + "\n")
    console.print(effects_table(comparison.effects, comparison.confidence))
    console.print(f"against {comparison.baseline}, margin {margin_text(head.margin)}")
    show_left_out(console, comparison.evidence)
    for where, code, text in collect_caveats(comparison.effects):
        console.print(f"caveat {code} ({where}): {text}")
    console.print("next: `ferocal table` shows the readings, `ferocal report` writes a page")
