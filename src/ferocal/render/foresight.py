"""A plan and its outlook as text and as a JSON object."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from rich.console import Console

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.plan.order import by_round
from ferocal.render.numbers import duration, percent
from ferocal.render.remarks import show_criteria_changes
from ferocal.render.tables import order_table, plain_table
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.answers.foresight import Foresight
    from ferocal.plan.advice import Outlook

_BEYOND = f"more than {MOST_ROUNDS} rounds would be needed"


def show_foresight(console: Console, foresight: Foresight) -> None:
    """Print the order, the cost, and what the plan can and cannot answer."""
    cost = foresight.cost
    time = "unknown: state `takes`" if cost.seconds is None else f"about {duration(cost.seconds)}"
    console.print(foresight.question, style="bold")
    console.print(
        f"schedule {foresight.schedule}: {counted(cost.visits, 'visit')}, "
        f"{counted(cost.switches, 'switch', 'switches')}, {counted(cost.runs, 'run')} and "
        f"{counted(cost.warmups, 'warm-up')}; duration {time}"
        + ("\n" if foresight.bench is None else f"; on each bench, as seen on {foresight.bench}\n")
    )
    if foresight.schedule == "rounds":
        console.print(order_table(by_round(foresight.visits)))
    else:
        names = [visit.configuration for visit in foresight.visits]
        console.print(f"visits in order: {' → '.join(names)}\n")
    for impossible in foresight.impossible:
        console.print(f"impossible, and skipped: {impossible}")
    for answer in foresight.answers:
        console.print(f"can answer: {answer}")
    for shortcoming in foresight.shortcomings:
        console.print(f"mind: {shortcoming}")
    show_criteria_changes(console, foresight.criteria_changes)
    _show_outlook(console, foresight)
    console.print("next: `ferocal measure` takes the runs")


def _show_outlook(console: Console, foresight: Foresight) -> None:
    if not foresight.outlooks:
        console.print("what can be found depends on the spread between rounds: see --sd and --like")
        return
    columns = ("finds", "equivalence", "at 80 %", "at 90 %", "runs")
    table = plain_table("workload", "metric", "spread", *columns, right=("spread", *columns))
    for o in foresight.outlooks:
        table.add_row(
            o.workload,
            o.metric,
            _amount(o.components.round_sd, o),
            _amount(o.detectable, o),
            f"{o.equivalence:.0%}",
            *(_rounds(n, foresight) for n in (o.rounds_80, o.rounds_90)),
            str(o.runs or "–"),
        )
    console.print(table)
    if foresight.schedule != "rounds":
        console.print(
            f"spread of the difference of two visits from {foresight.spread_from}. With the visits "
            "planned: the smallest change that is found (80 % power), and the chance to show "
            "equivalence."
        )
        return
    change = "the margin" if foresight.detect is None else percent(foresight.detect)
    console.print(
        f"spread between rounds from {foresight.spread_from}. With the rounds planned: the "
        "smallest change that is found (80 % power), and the chance to show equivalence. Rounds "
        f"in which a change of {change} is found, at 80 and 90 % power. Runs per visit that cost "
        "least."
    )


def _amount(value: float, outlook: Outlook) -> str:
    """A spread or a change, as per cent or in the unit of the metric."""
    return percent(value) if outlook.unit is None else f"{significant(value, 2)} {outlook.unit}"


def _rounds(number: int | None, foresight: Foresight) -> str:
    if foresight.schedule != "rounds":
        return "–"
    return str(number) if number else f"> {MOST_ROUNDS}"


def foresight_object(foresight: Foresight) -> dict[str, Any]:
    """The object that `ferocal plan --json` prints."""
    return {
        "schedule": foresight.schedule,
        "bench": foresight.bench,
        "order": [asdict(visit) for visit in foresight.visits],
        "cost": asdict(foresight.cost),
        "answers": foresight.answers,
        "shortcomings": foresight.shortcomings,
        "criteria_changed": [change.text for change in foresight.criteria_changes],
        "spread_from": foresight.spread_from,
        "outlook": [_outlook_object(outlook) for outlook in foresight.outlooks],
    }


def _outlook_object(outlook: Outlook) -> dict[str, Any]:
    reasons = {
        f"{key}_reason": None if getattr(outlook, key) else _BEYOND
        for key in ("rounds_80", "rounds_90")
    }
    return {**asdict(outlook), **reasons}
