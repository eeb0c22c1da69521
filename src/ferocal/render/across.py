"""Benches against each other as text: who leads now, and where the lead changed hands."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.render.console import Text, fold_with, plain_words, room, show_beside
from ferocal.render.grid import GridCell, Shape, arrange, lay_out
from ferocal.render.numbers import PlainChange, change_and_half, change_text, margin_text
from ferocal.render.wording import VERDICT_SIGNS, VERDICT_STYLES, VERDICT_WORDS
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.across import AcrossAnswer, Lead, LeadChange, Reign

# Of more configurations the first, the latest and those at which the lead changed are shown.
_MOST_COLUMNS = 6
_MOST_SENTENCES = 4
_MOST_FACTS = 4


def show_across(console: Console, answer: AcrossAnswer) -> None:
    """Print who leads with the latest configuration, where that changed, and what differs."""
    console.print(answer.question, style="bold", end="\n\n")
    for head, text in lead_lines(answer):
        show_beside(console, head, [text], margin=len(head) + 2 if head else 0)
    for change in answer.changes[:_MOST_SENTENCES]:
        show_beside(console, "", [change_sentence(change)], margin=0)
    console.print()
    shape = Shape(console.width, words=plain_words(console))
    for bench in dict.fromkeys(lead.bench for lead in answer.leads):
        for line in _grid(answer, bench, shape):
            console.print(line, soft_wrap=True)
    console.print()
    show_beside(console, "mind", list(remarks_of(answer)))
    following = [("whether a change is as large on both", "ferocal compare --between bench")]
    if answer.factor is not None:
        following.append(("each over its releases", f"ferocal series {answer.factor}"))
    show_beside(console, "next", [x for s in following for x in fold_with(*s, room(console))])


def lead_lines(answer: AcrossAnswer) -> Iterator[tuple[str, str]]:
    """Who leads by what with the last configuration, or with each of a few."""
    shown = answer.order if answer.factor is None else _measured(answer)[-1:]
    for name in shown[:_MOST_SENTENCES]:
        leads = [lead for lead in answer.leads if lead.configuration == name]
        if leads:
            yield name, _lead_text(leads)


def _measured(answer: AcrossAnswer) -> list[str]:
    known = {lead.configuration for lead in answer.leads}
    return [name for name in answer.order if name in known]


def _lead_text(leads: Sequence[Lead]) -> str:
    by_leader: dict[str, list[str]] = {}
    quiet: dict[Verdict, list[str]] = {}
    for lead in leads:
        if lead.leader is None:
            quiet.setdefault(lead.estimate.verdict, []).append(lead.series.title)
        else:
            text = f"{lead.series.title} ({lead.bench} {change_text(as_change(lead))})"
            by_leader.setdefault(lead.leader, []).append(text)
    parts = [f"{leader} leads by {listed(names)}" for leader, names in by_leader.items()]
    parts += [f"{VERDICT_WORDS[v]}: {', '.join(names)}" for v, names in quiet.items()]
    return "; ".join(parts)


def change_sentence(change: LeadChange) -> str:
    """Where a lead changed hands, in words."""
    before, after = change.before, change.after
    return (
        f"The lead by {change.series.title} went from {before.leader} to {after.leader} between "
        f"{before.last} and {after.first}: {change.bench} over {change.other} "
        f"{_reign_text(change, before)} until then, {_reign_text(change, after)} since."
    )


def _reign_text(change: LeadChange, reign: Reign) -> str:
    own = PlainChange(
        change.series, change.scale, reign.change, reign.low, reign.high, Verdict.BETTER
    )
    number, half = change_and_half(own)
    return f"{number} {half}"


def as_change(lead: Lead) -> PlainChange:
    """A lead as a change from the first bench to the other."""
    e = lead.estimate
    return PlainChange(lead.series, e.scale, e.change, e.low, e.high, e.verdict, e.bound)


def _columns(answer: AcrossAnswer) -> list[str]:
    names = _measured(answer)
    if len(names) <= _MOST_COLUMNS:
        return names
    turns = {name for x in answer.changes for name in (x.before.last, x.after.first)}
    wanted = [names[-1], names[0], *(n for n in names if n in turns), *reversed(names)]
    chosen = set(list(dict.fromkeys(wanted))[:_MOST_COLUMNS])
    return [name for name in names if name in chosen]


def _grid(answer: AcrossAnswer, bench: str, shape: Shape) -> Iterator[Text]:
    """One bench against the first: metrics in rows, configurations in columns."""
    known = {(x.series, x.configuration): x for x in answer.leads if x.bench == bench}
    series = list(dict.fromkeys(s for s, _ in known))
    columns = _columns(answer)

    def cells(s: Series) -> tuple[str, dict[str, GridCell]]:
        return "", {name: _cell(known.get((s, name)), shape) for name in columns}

    yield Text(f"{bench} over {answer.first}", "bold")
    yield from lay_out(list(arrange(series, shape, cells)), {n: n for n in columns}, shape)
    present = {lead.estimate.verdict for lead in known.values()}
    words = {**VERDICT_WORDS, Verdict.EQUIVALENT: f"within {margin_text(answer.margin)}"}
    words |= {Verdict.BETTER: f"{bench} leads", Verdict.WORSE: f"{answer.first} leads"}
    parts = [
        words[v] if shape.words else f"{sign} {words[v]}"
        for v, sign in VERDICT_SIGNS.items()
        if v in present and sign.strip()
    ]
    yield Text("  ".join([*parts, f"intervals {100 * answer.confidence:.4g} %"]), "dim")


def _cell(lead: Lead | None, shape: Shape) -> GridCell:
    if lead is None:
        return GridCell("–")
    number, rest = change_and_half(as_change(lead))
    signs = VERDICT_WORDS if shape.words else VERDICT_SIGNS
    verdict = lead.estimate.verdict
    return GridCell(number, rest, signs[verdict], "", VERDICT_STYLES[verdict])


def remarks_of(answer: AcrossAnswer) -> Iterator[str]:
    """What differs between the benches besides software, and what is missing."""
    facts = [
        f"{name} ({', '.join(f'{bench}: {value}' for bench, value in values.items())})"
        for name, values in answer.differing.items()
    ]
    if facts:
        rest = len(facts) - _MOST_FACTS
        more = f" and {rest} more" if rest > 0 else ""
        yield f"the hardware differs: {', '.join(facts[:_MOST_FACTS])}{more}"
    yield "that one bench leads does not say why: benches differ in more than their software"
    missing = [n for n in answer.order if n not in set(_measured(answer))]
    if missing:
        names = listed(missing) if len(missing) < _MOST_COLUMNS else str(len(missing))
        yield f"not measured on two benches: {names}"
    if answer.excluded:
        yield f"{counted(answer.excluded, 'run')} {be(answer.excluded)} excluded"
    if answer.left_out:
        count = counted(answer.left_out, "reading")
        yield f"{count} {be(answer.left_out)} of what the study file no longer knows"
