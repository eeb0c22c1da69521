"""A plan and its outlook as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.plan.order import by_round
from ferocal.render.console import Text, plain_words, show_beside
from ferocal.render.grid import MOST_ROWS, GridCell, GridRow, Shape, arrange, lay_out
from ferocal.render.next_steps import measure_command
from ferocal.render.numbers import duration, percent
from ferocal.render.remarks import show_criteria_changes
from ferocal.terms.numbers import significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.foresight import Foresight
    from ferocal.plan.advice import Outlook

# So many rounds are shown in their order; the others on request.
_MOST_ROUNDS = 5
_MOST_NAMED = 3
# Of very many metrics those are shown that spread most, so many of them.
_MOST_WIDE = 10


def show_foresight(console: Console, foresight: Foresight, *, detail: bool = False) -> None:
    """Print the cost, what the plan can and cannot answer, and the order of the visits.

    With ``detail``, the outlook of metrics that are details and the order of all rounds.
    """
    console.print(foresight.question, style="bold", end="\n\n")
    for line in _answer(foresight):
        show_beside(console, "", [line], margin=0)
    console.print()
    _show_outlook(console, foresight, detail)
    _show_order(console, foresight, detail)
    minds = [f"impossible, and skipped: {text}" for text in foresight.impossible]
    minds += foresight.shortcomings
    if minds:
        show_beside(console, "mind", minds)
    show_criteria_changes(console, foresight.criteria_changes)
    show_beside(console, "next", [_next(foresight)])


def _next(foresight: Foresight) -> str:
    """What there is to do: take runs, as long as some are left."""
    prospect, rounds = foresight.prospect, foresight.rounds
    if rounds is not None and (prospect is None or rounds > prospect.last_round):
        return f"take the runs: ferocal measure --rounds {rounds}"
    command = "ferocal measure" if prospect is None else measure_command(prospect)
    return f"take the runs: {command}" if command else "everything is there: ferocal compare"


def _answer(foresight: Foresight) -> Iterator[str]:
    """What the plan costs, what it can tell, and how well."""
    cost = foresight.cost
    if cost.seconds is not None:
        time = f"about {duration(cost.seconds)}"
    else:
        names = list(cost.unknown)
        which = listed(names) if len(names) <= _MOST_NAMED else f"{len(names)} workloads"
        time = f"duration not known: state `takes` of {which}"
    warmups = f" and {counted(cost.warmups, 'warm-up')}" if cost.warmups else ""
    where = f", on each bench, as seen on {foresight.bench}" if foresight.bench else ""
    yield (
        f"{foresight.planned}: {counted(cost.visits, 'visit')}, "
        f"{counted(cost.switches, 'switch', 'switches')}, {counted(cost.runs, 'run')}{warmups}, "
        f"{time}{where}"
    )
    yield f"can tell {'; '.join(foresight.answers)}"


def _show_order(console: Console, foresight: Foresight, detail: bool) -> None:
    """The order of the visits, of the first rounds unless more is wanted."""
    if foresight.schedule != "rounds":
        names = [visit.configuration for visit in foresight.visits]
        show_beside(console, "order", [" → ".join(names)])
    else:
        rounds = by_round(foresight.visits)
        shown = list(rounds.items()) if detail else list(rounds.items())[:_MOST_ROUNDS]
        lines = [f"{number:>3}  {' → '.join(names)}" for number, names in shown]
        if len(rounds) > len(shown):
            more = counted(len(rounds) - len(shown), "more round")
            lines.append(f"     {more}: ferocal plan --detail")
        show_beside(console, "order", lines)
    console.print()


def _show_outlook(console: Console, foresight: Foresight, detail: bool) -> None:
    known = {(o.workload, o.metric): o for o in foresight.outlooks}
    if not known:
        console.print(
            "what can be found depends on the spread between rounds, which is not known yet: see "
            "--sd and --like\n"
        )
        return
    shown = [
        s
        for s in foresight.series
        if (s.workload, s.metric) in known and (detail or s.role in DECIDING)
    ]
    left_out = 0
    if len(shown) > MOST_ROWS and not detail:
        widest = sorted(shown, key=lambda s: -known[s.workload, s.metric].components.round_sd)
        left_out = len(shown) - _MOST_WIDE
        shown = [s for s in shown if s in set(widest[:_MOST_WIDE])]
    in_rounds = foresight.schedule == "rounds"
    heads = ["spread", "finds", "equal", *(["at 80 %", "at 90 %"] if in_rounds else [])]
    heads += ["runs"] if any(o.runs for o in foresight.outlooks) else []

    def cells_of(series: Series) -> tuple[str, dict[str, GridCell]]:
        return "", _cells(known[series.workload, series.metric])

    shape = Shape(console.width, words=plain_words(console))
    rows: list[GridRow] = list(arrange(shown, shape, cells_of))
    for line in lay_out(rows, {head: head for head in heads}, shape):
        console.print(line, soft_wrap=True)
    if left_out:
        rest = counted(left_out, "more metric")
        console.print(f"{rest} spread less than these: ferocal plan --detail")
    for text in _legend(foresight, in_rounds):
        console.print(Text(text, "dim"))
    console.print()


def _cells(outlook: Outlook) -> dict[str, GridCell]:
    texts = {
        "spread": _amount(outlook.components.round_sd, outlook),
        "finds": _amount(outlook.detectable, outlook),
        "equal": f"{100 * outlook.equivalence:.0f} %",
        "at 80 %": _rounds(outlook.rounds_80),
        "at 90 %": _rounds(outlook.rounds_90),
        "runs": str(outlook.runs or "–"),
    }
    return {head: GridCell(text) for head, text in texts.items()}


def _legend(foresight: Foresight, in_rounds: bool) -> Iterator[str]:
    what = "differences between rounds" if in_rounds else "the difference of two visits"
    yield f"spread: of {what}, from {foresight.spread_from}"
    yield "finds: the smallest change that is found, with 80 % power"
    yield "equal: the probability to show that nothing changes, if nothing does"
    if in_rounds:
        change = "the margin" if foresight.detect is None else percent(foresight.detect)
        yield f"at 80 %, at 90 %: the rounds in which a change of {change} is found so often"
        if any(o.runs for o in foresight.outlooks):
            yield "runs: so many a visit cost least"


def _amount(value: float, outlook: Outlook) -> str:
    """A spread or a change, as per cent or in the unit of the metric."""
    return percent(value) if outlook.unit is None else f"{significant(value, 2)} {outlook.unit}"


def _rounds(number: int | None) -> str:
    return str(number) if number else f"> {MOST_ROUNDS}"
