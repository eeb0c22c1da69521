"""A plan and its outlook: cost, what it can detect, and the order of the visits."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.documents.advice import advice_text
from ferocal.documents.blocks import (
    MOST_ROWS,
    Block,
    Document,
    Grid,
    GridCell,
    Line,
    Lines,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.changes import criteria_text
from ferocal.documents.grids import arrange
from ferocal.documents.next_steps import measure_command
from ferocal.documents.numbers import duration, percent
from ferocal.plan.order import by_round
from ferocal.terms.numbers import significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.plan import Foresight
    from ferocal.plan.advice import Outlook

# So many rounds are shown in their order; the others on request.
_MOST_ROUNDS = 5
_MOST_NAMED = 3
# Of very many metrics those are shown that spread most, so many of them.
_MOST_WIDE = 10


def plan_document(foresight: Foresight, *, detail: bool = False) -> Document:
    """The cost, what the plan can and cannot answer, and the order of the visits.

    With ``detail``, the outlook of metrics that are details and the order of all rounds.
    """
    minds = [f"impossible, and skipped: {text}" for text in foresight.impossible]
    minds += map(advice_text, foresight.shortcomings)
    minds += [f"criteria changed: {criteria_text(change)}" for change in foresight.criteria_changes]
    return Document(
        foresight.question,
        (
            sentences(_answer(foresight)),
            *_outlook(foresight, detail),
            _order(foresight, detail),
            *caveats(minds),
            next_steps(_next(foresight)),
        ),
    )


def _next(foresight: Foresight) -> tuple[str, str]:
    """What there is to do: take runs, as long as some are left."""
    prospect, rounds = foresight.prospect, foresight.rounds
    if rounds is not None and (prospect is None or rounds > prospect.last_round):
        return "take the runs", f"ferocal measure --rounds {rounds}"
    command = "ferocal measure" if prospect is None else measure_command(prospect)
    if command:
        return "take the runs", command
    return "everything is measured", "ferocal compare"


def _answer(foresight: Foresight) -> Iterator[str]:
    """What the plan costs, what it can tell, and how well."""
    cost = foresight.cost
    if cost.seconds is not None:
        time = f"about {duration(cost.seconds)}"
    else:
        names = list(cost.unknown)
        which = listed(names) if len(names) <= _MOST_NAMED else f"{len(names)} workloads"
        time = f"duration unknown: add `takes` to {which}"
    warmups = f" and {counted(cost.warmups, 'warm-up')}" if cost.warmups else ""
    where = f", on each bench, as seen on {foresight.bench}" if foresight.bench else ""
    yield (
        f"{foresight.planned}: {counted(cost.visits, 'visit')}, "
        f"{counted(cost.switches, 'switch', 'switches')}, {counted(cost.runs, 'run')}{warmups}, "
        f"{time}{where}"
    )
    yield f"can tell {'; '.join(map(advice_text, foresight.answers))}"


def _order(foresight: Foresight, detail: bool) -> Table:
    """The order of the visits, of the first rounds unless more is wanted."""
    if foresight.schedule != "rounds":
        names = [visit.configuration for visit in foresight.visits]
        return make_table(("order of the visits",), [[" → ".join(names)]])
    rounds = by_round(foresight.visits)
    shown = list(rounds.items()) if detail else list(rounds.items())[:_MOST_ROUNDS]
    rest = len(rounds) - len(shown)
    more = f"{counted(rest, 'more round')}: ferocal plan --detail" if rest else ""
    rows = [[str(number), " → ".join(names)] for number, names in shown]
    return make_table(("round", "order of the visits"), rows, right=("round",), caption=more)


def _outlook(foresight: Foresight, detail: bool) -> Iterator[Block]:
    known = {(o.workload, o.metric): o for o in foresight.outlooks}
    if not known:
        between = "rounds" if foresight.schedule == "rounds" else "visits"
        yield sentences(
            [
                f"What this plan can detect depends on the noise between {between}, which is "
                "unknown yet: see --sd and --like."
            ]
        )
        return
    shown = [
        s
        for s in foresight.series
        if (s.workload, s.metric) in known and (detail or s.role in DECIDING)
    ]
    below = ""
    if len(shown) > MOST_ROWS and not detail:
        widest = sorted(shown, key=lambda s: -known[s.workload, s.metric].components.round_sd)
        below = (
            f"{counted(len(shown) - _MOST_WIDE, 'metric')} with less noise: ferocal plan --detail"
        )
        shown = [s for s in shown if s in set(widest[:_MOST_WIDE])]
    in_rounds = foresight.schedule == "rounds"
    heads = ["noise", "detects", "equal", "80 %", "90 %"]
    heads += ["runs"] if any(o.runs for o in foresight.outlooks) else []

    def cells_of(series: Series) -> tuple[GridCell, dict[str, GridCell]]:
        return GridCell(), _cells(known[series.workload, series.metric])

    yield Grid(tuple(arrange(shown, cells_of)), dict.fromkeys(heads, ()), below=below)
    yield Lines(tuple(Line(text) for text in _legend(foresight, in_rounds)), "note")


def _cells(outlook: Outlook) -> dict[str, GridCell]:
    texts = {
        "noise": _amount(outlook.components.round_sd, outlook),
        "detects": _amount(outlook.detectable, outlook),
        "equal": f"{100 * outlook.equivalence:.0f} %",
        "80 %": _rounds(outlook.rounds_80),
        "90 %": _rounds(outlook.rounds_90),
        "runs": str(outlook.runs or "–"),
    }
    return {head: GridCell(text) for head, text in texts.items()}


def _legend(foresight: Foresight, in_rounds: bool) -> Iterator[str]:
    what = "differences between rounds" if in_rounds else "the difference of two visits"
    yield f"noise: SD of {what}, from {foresight.spread_from}"
    yield "detects: the smallest change detected with 80 % power"
    yield 'equal: chance of proving "no change" if there is none'
    change = "the margin" if foresight.detect is None else percent(foresight.detect)
    needed = "rounds" if in_rounds else "visits to each side"
    yield f"80 %, 90 %: {needed} needed to detect a change of {change} with that power"
    if in_rounds and any(o.runs for o in foresight.outlooks):
        yield "runs: number of runs per visit that needs the least total time"


def _amount(value: float, outlook: Outlook) -> str:
    """A spread or a change, as per cent or in the unit of the metric."""
    return percent(value) if outlook.unit is None else f"{significant(value, 2)} {outlook.unit}"


def _rounds(number: int | None) -> str:
    return str(number) if number else f"> {MOST_ROUNDS}"
