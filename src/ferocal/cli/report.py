"""``ferocal report``: everything in one page."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, force_option, make_console, say, study_option
from ferocal.cli.publishing import against_option
from ferocal.errors import UsageError

if TYPE_CHECKING:
    from ferocal.answers.compare import Comparison
    from ferocal.answers.since import SinceAnswer
    from ferocal.study.load import Study


@click.command("report")
@study_option
@click.option(
    "--format",
    type=click.Choice(("html", "markdown", "pdf", "text")),
    help="Format of the page.  [html, or by FILE]",
)
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write to FILE: .html, .md (charts beside it), .pdf, .txt.  [report.html]",
)
@against_option
@click.option("--title", default="", metavar="TEXT", help="Title, in place of the question.")
@click.option("--author", default="", metavar="NAME", help="Who wrote it.")
@click.option("--only", multiple=True, metavar="SECTION", help="Only this section (repeatable).")
@click.option("--without", multiple=True, metavar="SECTION", help="All but this section.")
@click.option(
    "--rename", multiple=True, metavar="OLD=NEW", help="Write NEW for OLD, such as host=node-a."
)
@click.option(
    "--since",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="BUNDLE",
    help="Show what changed since this bundle.",
)
@click.option(
    "--identifying",
    is_flag=True,
    help="Include serial numbers, and the standard error of failed runs.",
)
@force_option
@example("ferocal report --author 'A. Ray' --rename dome-node=node-a -o result.html")
def command(
    directory: Path,
    format: str | None,
    output: Path | None,
    against: str | None,
    title: str,
    author: str,
    only: tuple[str, ...],
    without: tuple[str, ...],
    rename: tuple[str, ...],
    since: Path | None,
    identifying: bool,
    force: bool,
) -> None:
    """Write everything into one page.

    The answer, its gravest caveats and the overview come first; then a section for every question
    that the study asks, how it was measured, what does not count, and every reading. Numbers lead
    to their runs, verdicts to their method. The page (report.html in the study's directory unless
    --output names another file) needs no other file and no network. Serial numbers and the
    standard error of failed runs are left out unless asked for. What it begins with follows from
    the study, unless `lead` in [report] of study.toml says it.
    """
    from ferocal.answers.report import make_report
    from ferocal.documents.report import check_sections, report_document
    from ferocal.media.files import check_target
    from ferocal.media.pages import SUFFIXES, write_page
    from ferocal.study.load import load_study
    from ferocal.terms import signs

    if output is not None:
        check_target(output, force=force)
    by_suffix = {suffix: name for name, suffix in SUFFIXES.items()} | {".htm": "html"}
    suffix = "" if output is None else output.suffix.lower()
    chosen = format or by_suffix.get(suffix, "" if suffix else "html")
    if not chosen:
        known = ", ".join(by_suffix)
        raise click.UsageError(f"{output}: name the file {known}, or give --format")
    path = output or directory / f"report{SUFFIXES[chosen]}"
    check_sections((*only, *without))
    check_target(path, force=force)
    study = load_study(directory)
    signs.rename(_renamed(rename))
    with make_console(stderr=True).status("gathering, judging and drawing"):
        report = make_report(study, against, identifying=identifying)
        if since is not None:
            report = replace(report, since=_changes(since, study, report.comparison, against))
        # A text has nothing that is folded: what fills pages is in it only where it is asked for.
        flat = chosen in ("markdown", "text") and "readings" not in only
        document = report_document(
            report,
            only=only,
            without=(*without, "readings") if flat else without,
            title=title,
            author=author,
        )
        source = str(report.provenance.ledger)
        written = write_page(document, chosen, path, source, force=force, charts=True)
    for made in written:
        say(f"wrote {made}")


def _changes(path: Path, study: Study, now: Comparison, against: str | None) -> SinceAnswer:
    """What is otherwise than in a bundle."""
    import ferocal
    from ferocal.answers.since import compare_since
    from ferocal.intake.bundle import open_bundle, write_study
    from ferocal.terms.files import scratch_directory

    with scratch_directory() as scratch, open_bundle(path) as bundle:
        write_study(bundle, scratch)
        opened = ferocal.open(scratch)
        known = against if against in opened.study.names else None
        before = (opened.study, opened.compare(against=known))
        return compare_since(before, (study, now), bundle.manifest.ledger)


def _renamed(pairs: tuple[str, ...]) -> dict[str, str]:
    """New names by old ones."""
    names = {}
    for pair in pairs:
        old, sign, new = pair.partition("=")
        if not (old.strip() and sign and new.strip()):
            raise UsageError(f'--rename "{pair}": write OLD=NEW, such as dome-node=node-a')
        names[old.strip()] = new.strip()
    return names
