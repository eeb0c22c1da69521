"""``ferocal report``: everything in one HTML page."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, force_option, say, study_option


@click.command("report")
@study_option
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Where to write.  [default: report.html in the study's directory]",
)
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@click.option(
    "--identifying",
    is_flag=True,
    help="With serial numbers, and with what failed runs wrote to standard error.",
)
@force_option
@example("ferocal report --output result.html")
def command(
    directory: Path, output: Path | None, against: str | None, identifying: bool, force: bool
) -> None:
    """Write everything into one HTML page.

    The answer, the overview with a small interval in every cell, all effects, what to
    mind, the readings, the bench and how it was measured. The page needs no other file and
    no network. Serial numbers, and what failed runs wrote to standard error, are only in it
    if asked for.
    """
    from ferocal.answers.report import make_report
    from ferocal.render.output import check_target
    from ferocal.render.page import write_page
    from ferocal.study.load import load_study

    path = output or directory / "report.html"
    check_target(path, force=force)  # before anything is computed
    study = load_study(directory)
    report = make_report(study, against, identifying=identifying)
    write_page(report, path, mask=study.mask, force=force)
    say(f"wrote {path}")
