"""``ferocal plan``: what will be done, and what it can answer."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, json_option, make_console, print_json, study_option

if TYPE_CHECKING:
    from ferocal.foresight import Foresight


@click.command("plan")
@study_option
@json_option
@click.option("--rounds", type=click.IntRange(min=1), metavar="N", help="Plan for so many rounds.")
@click.option("--detect", metavar="CHANGE", help='A change to be found, such as "2%".')
@click.option("--sd", metavar="SD", help='Spread of changes between rounds, such as "3%".')
@click.option(
    "--like",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    metavar="DIR",
    help="Take the spread from an earlier study with the same workloads.",
)
@example("ferocal plan --detect 2%")
def command(
    directory: Path,
    as_json: bool,
    rounds: int | None,
    detect: str | None,
    sd: str | None,
    like: Path | None,
) -> None:
    """Show what will be done, how long it takes, and what it can answer.

    The order of the visits, the number of switches and runs, the expected duration from
    durations seen or stated, and the questions that this plan cannot answer. Where the
    spread between rounds is known (from this study so far, from --like, or stated with
    --sd), the rounds that a change needs at 80 and 90 % power, and the number of runs per
    visit that costs least.
    """
    from ferocal.foresight import foresee_directory

    foresight = foresee_directory(
        directory,
        rounds=rounds,
        detect=None if detect is None else _share(detect, "--detect"),
        stated_sd=None if sd is None else _share(sd, "--sd"),
        like=like,
    )
    if as_json:
        print_json(_object(foresight))
    else:
        _show(foresight)


def _share(text: str, option: str) -> float:
    from ferocal.study.quantities import parse_share

    try:
        return parse_share(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint=option) from None


def _object(foresight: Foresight) -> dict[str, Any]:
    from dataclasses import asdict

    return {
        "schedule": foresight.study.head.schedule,
        "order": [asdict(visit) for visit in foresight.visits],
        "cost": asdict(foresight.cost),
        "answers": foresight.answers,
        "limits": foresight.limits,
        "spread_from": foresight.spread_from,
        "outlook": [asdict(outlook) for outlook in foresight.outlooks],
    }


def _show(foresight: Foresight) -> None:
    from ferocal.plan.order import by_round
    from ferocal.report.numbers import duration
    from ferocal.report.tables import order_table
    from ferocal.wording import counted

    console = make_console()
    cost, head = foresight.cost, foresight.study.head
    time = "unknown: state `takes`" if cost.seconds is None else f"about {duration(cost.seconds)}"
    console.print(head.question, style="bold")
    console.print(
        f"schedule {head.schedule}: {counted(cost.visits, 'visit')}, "
        f"{counted(cost.switches, 'switch', 'switches')}, {counted(cost.runs, 'run')} and "
        f"{counted(cost.warmups, 'warm-up')}; duration {time}\n"
    )
    order = by_round(foresight.visits)
    console.print(order_table(order) if head.schedule == "rounds" else _sequence(foresight))
    for impossible in foresight.study.design.impossible:
        console.print(f"impossible, and skipped: {impossible}")
    for answer in foresight.answers:
        console.print(f"can tell: {answer}")
    for limit in foresight.limits:
        console.print(f"limit: {limit}")
    _show_outlook(foresight)
    console.print("next: `ferocal measure` takes the runs")


def _sequence(foresight: Foresight) -> str:
    names = [visit.configuration for visit in foresight.visits]
    return f"visits in order: {' → '.join(names)}\n"


def _show_outlook(foresight: Foresight) -> None:
    from ferocal.report.numbers import percent
    from ferocal.report.tables import plain_table

    console = make_console()
    if not foresight.outlooks:
        console.print("what can be found depends on the spread between rounds: see --sd and --like")
        return
    columns = ("finds", "equivalence", "at 80 %", "at 90 %", "runs")
    table = plain_table("workload", "metric", "spread", *columns, right=("spread", *columns))
    for o in foresight.outlooks:
        table.add_row(
            o.workload,
            o.metric,
            percent(o.components.round_sd),
            "–" if o.detectable is None else percent(o.detectable),
            f"{o.equivalence:.0%}",
            *(str(n) if n else "> 1000" for n in (o.rounds_80, o.rounds_90)),
            str(o.runs or "–"),
        )
    console.print(table)
    change = "the margin" if foresight.detect is None else percent(foresight.detect)
    console.print(
        f"spread between rounds from {foresight.spread_from}. With the rounds planned: the "
        "smallest change that is found (80 % power), and the chance to show equivalence. Rounds "
        f"in which a change of {change} is found, at 80 and 90 % power. Runs per visit that cost "
        "least."
    )
