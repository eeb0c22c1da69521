"""``ferocal report``: everything in one page."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, force_option, study_option
from ferocal.cli.publishing import (
    against_option,
    format_option,
    make_publication,
    output_option,
)


@click.command("report")
@study_option
@format_option
@output_option
@against_option
@click.option(
    "--identifying",
    is_flag=True,
    help="Include serial numbers, and the standard error of failed runs.",
)
@force_option
@example("ferocal report --output result.html")
def command(
    directory: Path,
    format: str | None,
    output: Path | None,
    against: str | None,
    identifying: bool,
    force: bool,
) -> None:
    """Write everything into one page.

    The answer, the overview with a small interval in every cell, all effects and caveats, the
    readings, the bench and the procedure. The page (report.html in the study's directory unless
    --output names another file) needs no other file and no network. Serial numbers and the
    standard error of failed runs are left out unless asked for.
    """
    from ferocal.answers.report import make_report
    from ferocal.documents.report import report_document
    from ferocal.study.load import load_study

    suffix = {"markdown": ".md", "text": ".txt"}.get(format or "", ".html")
    path = output or directory / f"report{suffix}"
    publish = make_publication(format, False, path, force)
    study = load_study(directory)
    report = make_report(study, against, identifying=identifying)
    publish.write(report_document(report), str(report.ledger))
