"""``ferocal measure``: take the runs that the plan still needs."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli import ending
from ferocal.cli.common import ROUND, example, say, study_option
from ferocal.cli.place import operator_option, parse_span

if TYPE_CHECKING:
    from ferocal.ledger.store import Ledger
    from ferocal.measure.progress import Observer, Summary
    from ferocal.measure.session import Options
    from ferocal.study.load import Study


@click.command("measure")
@study_option
@click.option(
    "--rounds",
    type=ROUND,
    metavar="N",
    help="Total number of rounds, including those already measured.  [as in the study file]",
)
@click.option(
    "--bench", metavar="NAME", help="Which bench this machine is, if its facts do not show it."
)
@click.option("--retry", is_flag=True, help="Repeat runs that failed or timed out.")
@click.option(
    "--configuration",
    "configurations",
    multiple=True,
    metavar="NAME",
    help="Only this configuration; repeated, any of them.",
)
@click.option(
    "--level",
    "levels",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="Only configurations with this level; repeated, any of one factor.",
)
@click.option(
    "--here",
    is_flag=True,
    help="Switch nothing: take the next visit of the configuration that is active now.",
)
@click.option(
    "--decide",
    is_flag=True,
    help="Add rounds until every primary metric is decided, up to --rounds.  [20]",
)
@click.option(
    "--seek",
    metavar="FACTOR",
    help="Locate the release that changed a metric, in as few visits as possible.",
)
@click.option("--metric", metavar="NAME", help="With --seek: metric to look at.  [a primary one]")
@click.option(
    "--visits",
    type=ROUND,
    metavar="N",
    help="With --seek: most visits to make.  [60]",
)
@click.option(
    "--against",
    metavar="NAME",
    help="Only the newest release and another, such as previous, in common rounds.",
)
@click.option(
    "--within", metavar="TIME", help='Begin no round that would end later, such as "30 min".'
)
@click.option("--wait", is_flag=True, help="Wait while another session measures on the bench.")
@operator_option
@click.option(
    "--if-not-active",
    type=click.Choice(["stop", "go-on"]),
    default="stop",
    show_default=True,
    help="What to do when a check shows that a configuration is not active.",
)
@example("ferocal measure --level driver=r64")
def command(
    directory: Path,
    rounds: int | None,
    bench: str | None,
    retry: bool,
    configurations: tuple[str, ...],
    levels: tuple[str, ...],
    here: bool,
    decide: bool,
    seek: str | None,
    metric: str | None,
    visits: int | None,
    against: str | None,
    within: str | None,
    wait: bool,
    operator: str | None,
    if_not_active: str,
) -> None:
    """Take the runs that the plan still needs.

    For every visit, Ferocal switches the bench, verifies the configuration and lets the bench
    settle; then it takes the warm-ups and runs of each workload. Ctrl-C ends cleanly and keeps
    everything recorded; the same command resumes, also after a reboot.

    --against previous is for a pipeline: a release that was added is measured with the one before
    it, in as many rounds as the study has, and none of the others again; the first release is
    measured alone. With --level build=n31 it is that release and the one before it. --rounds counts
    their common rounds only.

    Exit status 1: a configuration was not active, the bench has changed, or runs failed.
    Exit status 4: an operator has to act before the same command can resume.
    """
    from ferocal.cli.progress import make_observer
    from ferocal.measure.session import Options
    from ferocal.measure.whereabouts import find_bench
    from ferocal.study.load import load_study

    limited = bool(configurations or levels)
    if here and (limited or decide or rounds):
        raise click.UsageError("--here takes one visit: leave out the other limits")
    if decide and limited:
        raise click.UsageError("--decide needs whole rounds: leave out --configuration and --level")
    if seek and (here or limited or decide or rounds):
        raise click.UsageError("--seek chooses its visits: leave out the other limits")
    if against and (here or configurations or decide or seek):
        raise click.UsageError("--against chooses its visits: leave out the other limits")
    if not seek and (metric or visits):
        raise click.UsageError("--metric and --visits need --seek FACTOR")
    study = find_bench(load_study(directory), bench)
    if bench is None and len(study.benches) > 1:
        say(f"this machine is bench {study.bench} (recognised by its facts)")
    options = Options(
        retry=retry,
        go_on=if_not_active == "go-on",
        in_place=here,
        within=parse_span(within, "--within"),
        wait=wait,
        operator=operator,
    )
    begun = time.monotonic()
    if seek:
        summary = _seek(study, options, seek, metric, visits, begun)
        sys.exit(_exit_status(summary))
    with make_observer() as observer:
        if against:
            summary = _measure_newest(study, observer, options, rounds, (against, levels))
        else:
            limits = (configurations, levels)
            summary = _measure(study, observer, options, rounds, limits, decide)
    again = "".join(f" --level {level}" for level in levels) if against else ""
    again += f" --against {against}" if against else ""
    _report(summary, time.monotonic() - begun, f"ferocal measure{again}")
    _answer_so_far(study, summary, against)
    sys.exit(_exit_status(summary))


def _measure(
    study: Study,
    observer: Observer,
    options: Options,
    rounds: int | None,
    limits: tuple[Sequence[str], Sequence[str]],
    decide: bool,
) -> Summary:
    from ferocal.measure.campaign import measure_here, measure_study

    if options.in_place:
        return measure_here(study, observer, options)
    if decide:
        from ferocal.answers.compare import name_undecided
        from ferocal.measure.decide import DEFAULT_ROUNDS, measure_until_decided

        most_rounds = rounds or DEFAULT_ROUNDS
        return measure_until_decided(
            study, observer, options, name_undecided, most_rounds=most_rounds
        )
    return measure_study(
        study, observer, rounds=rounds, options=options, configurations=limits[0], levels=limits[1]
    )


def _measure_newest(
    study: Study,
    observer: Observer,
    options: Options,
    rounds: int | None,
    wanted: tuple[str, Sequence[str]],
) -> Summary:
    from ferocal.answers.release_line import newest_and
    from ferocal.ledger.opening import LEDGER_FILE, read_ledger
    from ferocal.ledger.reading.visits import read_visits
    from ferocal.measure.newest import measure_newest

    visited: set[str] = set()
    if (study.directory / LEDGER_FILE).exists():
        with read_ledger(study.directory) as ledger:
            visits = read_visits(ledger).values()
        visited = {v.configuration for v in visits if v.bench == study.bench}
    names = newest_and(study, wanted[0], visited, wanted[1])
    return measure_newest(study, observer, options, names, rounds=rounds)


def _seek(
    study: Study,
    options: Options,
    factor: str,
    metric: str | None,
    visits: int | None,
    begun: float,
) -> Summary:
    """Visit releases until the step is found; say where it is, or why it is not found."""
    from ferocal.answers.evidence import gather
    from ferocal.answers.release_line import find_release_line
    from ferocal.answers.seeking import seek_next
    from ferocal.answers.selection import Selection
    from ferocal.cli.progress import make_observer
    from ferocal.documents.seeking import sought_text
    from ferocal.measure.seek import MOST_VISITS, Target, measure_until_found

    selection = Selection(metrics=(metric,) if metric else ()).resolve(study)
    find_release_line(study, factor)  # before anything is switched

    def guide(study: Study, ledger: Ledger) -> Target:
        sought = seek_next(study, gather(study, ledger), factor, selection)
        return Target(sought.configuration, sought_text(sought))

    with make_observer() as observer:
        summary, says = measure_until_found(
            study, observer, options, guide, most_visits=visits or MOST_VISITS
        )
    _report(summary, time.monotonic() - begun, f"ferocal measure --seek {factor}")
    say(says)
    say(f"next  details: ferocal series {factor}")
    return summary


def _exit_status(summary: Summary) -> int:
    if summary.interrupted:
        return ending.status()
    if summary.problems or (summary.not_active and summary.remaining):
        return 1
    return 4 if summary.stopped else 0


def _report(summary: Summary, seconds: float, command: str = "ferocal measure") -> None:
    from ferocal.terms.wording import counted

    for slot, problem in summary.problems:
        where = f"round {slot.round}, {slot.configuration}, {slot.workload}, run {slot.number}"
        say(f"{where}: {problem}", err=True)
    for text in summary.not_active:
        say(text, err=True)
    if summary.resumed_after_crash:
        lost = counted(summary.resumed_after_crash, "run")
        say(f"{lost} of an earlier session never ended and count as interrupted")
    say(_outcome(summary, seconds, command))


def _outcome(summary: Summary, seconds: float, command: str) -> str:
    """What was taken, failed and set aside, in how long, and what is still to be done."""
    from ferocal.documents.numbers import duration
    from ferocal.terms.wording import counted

    taken = counted(summary.taken, "run")
    if summary.interrupted or summary.stopped:
        how = "interrupted" if summary.interrupted else "stopped by the operator"
        return f"{how}; {taken} taken, {summary.remaining} left; resume with `{command}`"
    if not summary.taken and not summary.remaining:
        return f"everything is measured: {counted(summary.planned, 'run')}"
    parts = [f"took {taken} in {duration(seconds)}"]
    parts += [f"{len(summary.problems)} not valid"] if summary.problems else []
    parts += [f"{summary.retaken} set aside and taken again"] if summary.retaken else []
    visits = len(summary.not_active)
    parts += [f"{counted(visits, 'visit')} set aside, not active"] if visits else []
    parts += ["the time is up"] if summary.out_of_time else []
    rest = (
        f"{counted(summary.remaining, 'run')} left; continue with `{command}`"
        if summary.remaining
        else "no runs remain"
        if "--seek" in command
        else "the plan is complete"
    )
    return f"{', '.join(parts)}; {rest}"


def _answer_so_far(study: Study, summary: Summary, against: str | None = None) -> None:
    """The first line of the answer, once the plan is complete: results are not looked at before."""
    if summary.remaining:
        return
    import ferocal
    from ferocal.documents.answer import answer_lines

    comparison = ferocal.open(study.directory).compare(against=against).on_bench(study.bench)
    line = answer_lines(comparison)[0]
    say(f"{line.head}: {line.text}" if line.head else line.text)
    again = f" --against {against}" if against else ""
    say(f"next  the whole answer: ferocal compare{again}; the report: ferocal report")
