"""``ferocal demo``: a made-up study on a simulated bench."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli import ending
from ferocal.cli.common import example, say
from ferocal.cli.publishing import make_publication, show

if TYPE_CHECKING:
    from ferocal.documents.blocks import Table
    from ferocal.study.load import Study


@click.command("demo")
@click.argument(
    "directory",
    metavar="[DIR]",
    default=Path("ferocal-demo"),
    type=click.Path(path_type=Path, file_okay=False),
)
@example("ferocal demo /tmp/dome && cd /tmp/dome && ferocal compare")
def command(directory: Path) -> None:
    """Measure made-up studies on simulated benches, for a first look.

    A planetarium asks whether a graphics driver and a graphics API make its shows
    smoother. Further studies ask what an update did that brought a driver and a firmware
    together (DIR/firmware), when two kiosks became slower over twelve releases (DIR/kiosk), and
    which of five rented hosts is best (DIR/hosts). All are written to DIR (ferocal-demo if not
    named) and measured in the same way as real ones; since their benches are simulated, what is
    true can be shown beside what was found.
    """
    from ferocal.demo.scenario import FIRMWARE, HOSTS, KIOSK, carry, keep_references, write_demo
    from ferocal.study.load import load_study

    write_demo(directory)
    study = load_study(directory)
    say(f"measuring the study in {directory} on its simulated bench")
    prevented = _measure(study)
    _show(directory)
    _show_prevented(prevented, study.head.runs * len(study.workloads))
    update = load_study(directory / FIRMWARE)
    say(f"\nmeasuring the study in {update.directory}: driver and firmware moved together")
    _measure(update)
    _show_update(update.directory)
    kiosk = load_study(directory / KIOSK)
    for device in kiosk.benches:
        say(f"\nmeasuring the study in {kiosk.directory}: twelve releases on the {device} kiosk")
        carry(kiosk.directory, device)
        _measure(kiosk.on(device))
    keep_references(kiosk)
    _show_kiosk(kiosk.directory)
    hosts = load_study(directory / HOSTS)
    say(f"\nmeasuring the study in {hosts.directory}: five rented hosts")
    _measure(hosts)
    _show_hosts(hosts.directory)


def _measure(study: Study) -> list[str]:
    """Measure to the end; what was said of configurations that were not active."""
    from ferocal.cli.progress import make_observer
    from ferocal.demo.scenario import watch
    from ferocal.intake.typed import TypedReading
    from ferocal.measure.campaign import measure_study
    from ferocal.measure.progress import Answer, Question
    from ferocal.measure.session import Options

    prevented: list[str] = []

    def answer(question: Question) -> Answer:
        return Answer(TypedReading(watch(study.directory, question.workload)))

    while True:
        with make_observer(answer) as observer:
            summary = measure_study(study, observer, options=Options(go_on=True))
        if summary.interrupted:
            say("interrupted; the same command resumes")
            sys.exit(ending.status())
        prevented += summary.not_active
        if not summary.remaining:
            return prevented


def _show_prevented(prevented: list[str], runs: int) -> None:
    """Tell which mistakes the checks have prevented."""
    for text in prevented:
        lines = text.splitlines()
        say(f"prevented: {lines[0]}\n{lines[1]}")
        say(
            f"  The bench ignored a switch, as real ones do. Without the check, {runs} runs of "
            "the wrong\n  configuration would have counted; the visit was made again instead."
        )


def _show_update(directory: Path) -> None:
    """What the update did, what can be told apart, and what became of the claims."""
    import ferocal
    from ferocal.demo.scenario import factors_beside_truth
    from ferocal.documents.claims import claims_document
    from ferocal.documents.factors import factors_document
    from ferocal.documents.truth import factor_truth_table

    opened = ferocal.open(directory)
    answer = opened.factors().answer
    say("")
    show(factors_document(answer))
    _show_truth(
        "True values of the levels:",
        factor_truth_table(factors_beside_truth(opened.study, answer.benches[0].effects)),
    )
    show(claims_document(opened.claims().answer))


def _show_kiosk(directory: Path) -> None:
    """When the kiosks changed, who leads now, and what is true."""
    import ferocal
    from ferocal.demo.scenario import steps_beside_truth
    from ferocal.documents.across import change_sentence
    from ferocal.documents.series import series_document
    from ferocal.documents.truth import step_truth_table

    opened = ferocal.open(directory)
    answer = opened.series("firmware").answer
    say("")
    show(series_document(answer))
    for change in opened.across().changes:
        say(change_sentence(change))
    truth = step_truth_table(steps_beside_truth(answer))
    _show_truth("True values of the releases:", truth)


def _show_hosts(directory: Path) -> None:
    """Which host is best, and what is true."""
    import ferocal
    from ferocal.demo.scenario import ranks_beside_truth
    from ferocal.documents.rank import ranking_document
    from ferocal.documents.truth import rank_truth_table

    answer = ferocal.open(directory).ranking().answer
    say("")
    show(ranking_document(answer))
    _show_truth(
        "True values of the hosts:", rank_truth_table(ranks_beside_truth(answer.fields[0].main))
    )


def _show(directory: Path) -> None:
    import ferocal
    from ferocal.answers.report import make_report
    from ferocal.demo.scenario import beside_truth
    from ferocal.documents.compare import comparison_document
    from ferocal.documents.report import report_document
    from ferocal.documents.truth import truth_table

    opened = ferocal.open(directory)
    comparison = opened.compare()
    say("")
    show(comparison_document(comparison))
    _show_truth(
        "The bench is simulated, so the true changes are known:",
        truth_table(beside_truth(opened.study, comparison.effects)),
    )
    path = directory / "report.html"
    report = make_report(opened.study)
    make_publication(None, False, path, False).write(
        report_document(report), str(report.provenance.ledger)
    )


def _show_truth(title: str, table: Table) -> None:
    """What is true of a simulated bench, beside what was found."""
    from ferocal.documents.blocks import Document, Heading

    say("")
    show(Document("", (Heading(title), table)))
