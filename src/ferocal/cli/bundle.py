"""``ferocal bundle``: a study with its readings and report in one file, for others to check."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, force_option, make_console, say, study_option
from ferocal.terms.files import scratch_directory

if TYPE_CHECKING:
    from ferocal.answers.report import Report
    from ferocal.media.bundle import BundleWriter
    from ferocal.study.load import Study
    from ferocal.terms.bundles import Signer

_README = """\
A study, as `ferocal bundle` made it. `ferocal open FILE DIR` makes a study of it again, with the
same results; everything here can be read without Ferocal too.

study.toml     what was asked, what was varied, what is measured, margins and roles
readings.csv   every reading with its context
effects.csv    every comparison with the baseline: change, interval, verdict
ledger/        everything recorded, a table per file, as JSON lines
traces/        frame times and soaks, as Parquet
report.html    the report, charts/ its main figures
manifest.json  the SHA-256 of every file
"""


@click.command("bundle")
@study_option
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write to FILE.  [bundle.zip]",
)
@click.option(
    "--sign",
    "key",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="KEY",
    help="Sign with this SSH key.",
)
@click.option(
    "--identifying", is_flag=True, help="Include serial numbers, and what programs wrote."
)
@force_option
@example("ferocal bundle -o show.zip --sign ~/.ssh/id_ed25519")
def command(
    directory: Path, output: Path | None, key: Path | None, identifying: bool, force: bool
) -> None:
    """Pack the study for others: readings, report, charts.

    A ZIP file with the study file, every reading in open formats, traces, report, charts, and a
    manifest with the SHA-256 of each file. `ferocal open` makes a study of it with identical
    results, and notices any change. Serial numbers, what programs wrote, and directories of
    imported files are left out unless asked for; what the study file calls private is never in it.
    """
    from ferocal.ledger.opening import LEDGER_FILE, explained, refuse_missing
    from ferocal.ledger.upgrading import copy_ledger
    from ferocal.ledger.writing.bundled import withhold
    from ferocal.media.bundle import BundleWriter, seal
    from ferocal.media.files import check_target, whole_file
    from ferocal.study.load import STUDY_FILE, load_study

    path = output or directory / "bundle.zip"
    check_target(path, force=force)  # before anything is computed
    study = load_study(directory)
    ledger = directory / LEDGER_FILE
    refuse_missing(ledger)
    with scratch_directory() as place, make_console(stderr=True).status("packing"):
        (place / STUDY_FILE).write_bytes(study.kept_text.encode())
        with explained(ledger):
            copy_ledger(ledger, place / LEDGER_FILE)
            withheld = [] if identifying else withhold(place / LEDGER_FILE)
        with whole_file(path, force=force) as partial:
            with partial.open("wb") as file, BundleWriter(file) as writer:
                about = _fill(writer, load_study(place))
                signer = None if key is None else _signer(key)
                writer.finish({**about, "withheld": withheld}, signer)
            seal(partial)
    for text in withheld:
        say(f"left out: {text}")
    say(f"wrote {path}")


def _signer(key: Path) -> Signer:
    from ferocal.intake.signatures import sign

    return lambda text: sign(text, key)


def _fill(writer: BundleWriter, study: Study) -> dict[str, object]:
    """All files but the manifest, and what that says of them."""
    from ferocal._version import __version__
    from ferocal.answers.export import readings_frame
    from ferocal.answers.report import make_report
    from ferocal.documents.frames import effects_frame
    from ferocal.documents.report import report_document
    from ferocal.ledger import tables
    from ferocal.ledger.opening import read_ledger
    from ferocal.ledger.reading.dump import dump_rows
    from ferocal.media.html import page
    from ferocal.media.readings import csv_text
    from ferocal.terms import bundles
    from ferocal.terms.signs import masked

    writer.add(bundles.README, _README.encode())
    writer.add(bundles.STUDY, study.text.encode())
    with read_ledger(study.directory) as ledger:
        for table in tables.TABLES:
            writer.add_rows(table.name, dump_rows(ledger, table))
        writer.add(bundles.READINGS, csv_text(readings_frame(study, ledger)))
    report = make_report(study)
    source = str(report.provenance.ledger)
    writer.add(bundles.EFFECTS, csv_text(effects_frame(report.comparison)))
    writer.add(bundles.REPORT, masked(page(report_document(report), source)).encode())
    _add_charts(writer, report)
    return {
        "made_with": __version__,
        "question": study.head.question,
        "ledger": source,
        "ledger_version": tables.SCHEMA_VERSION,
    }


def _add_charts(writer: BundleWriter, report: Report) -> None:
    """The main figures of a report, as far as the study has them."""
    from ferocal.answers.charts import charts_of_report
    from ferocal.documents.charts import chart_blocks
    from ferocal.errors import UsageError
    from ferocal.media.figures import figure_text
    from ferocal.terms import bundles
    from ferocal.terms.names import plain_name
    from ferocal.terms.signs import masked

    for kind, data in charts_of_report(report).items():
        # Of more configurations than can be told apart there is no figure.
        with contextlib.suppress(UsageError):
            for chart in chart_blocks(kind, data):
                name = "-".join(plain_name(part) for part in (kind, *chart.names))
                text = masked(figure_text(chart, fixed=True))
                writer.add(f"{bundles.CHARTS}{name[:140]}.svg", text.encode())
