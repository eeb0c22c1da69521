"""Benches against each other: who leads now, and where the lead changed hands."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import (
    Block,
    Document,
    Grid,
    GridCell,
    Heading,
    Line,
    Lines,
    Place,
    caveats,
    next_steps,
)
from ferocal.documents.grids import arrange, change_cell, meanings
from ferocal.documents.numbers import PlainChange, change_and_half, change_text, margin_text
from ferocal.documents.remarks import remark_lines
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.across import AcrossAnswer, Lead, LeadChange, Reign

# Of more configurations the first, the latest and those at which the lead changed are shown.
_MOST_COLUMNS = 6
_MOST_SENTENCES = 4
_MOST_FACTS = 4


def across_document(answer: AcrossAnswer) -> Document:
    """Who leads with the latest configuration, where that changed, and what differs."""
    leads = [Line(text, head) for head, text in lead_lines(answer)]
    changes = [Line(change_sentence(change)) for change in answer.changes[:_MOST_SENTENCES]]
    blocks: list[Block] = [Lines((*leads, *changes), "answer")]
    for bench in dict.fromkeys(lead.bench for lead in answer.leads):
        blocks += [Heading(f"{bench} over {answer.first_bench}"), _grid(answer, bench)]
    blocks += caveats([*remarks_of(answer), *remark_lines(answer)])
    following = [("is a change as large on both", "ferocal compare --between bench")]
    if answer.factor is not None:
        following.append(("each bench over its releases", f"ferocal series {answer.factor}"))
    return Document(answer.question, (*blocks, next_steps(*following)))


def lead_lines(answer: AcrossAnswer) -> Iterator[tuple[str, str]]:
    """Who leads by what with the last configuration, or with each of a few."""
    shown = answer.order if answer.factor is None else _measured(answer)[-1:]
    for name in shown[:_MOST_SENTENCES]:
        leads = [lead for lead in answer.leads if lead.configuration == name]
        if leads:
            yield name, _lead_text(leads, len({lead.bench for lead in answer.leads}) > 1)


def _measured(answer: AcrossAnswer) -> list[str]:
    known = {lead.configuration for lead in answer.leads}
    return [name for name in answer.order if name in known]


def _lead_text(leads: Sequence[Lead], several: bool) -> str:
    by_leader: dict[str, list[str]] = {}
    quiet: dict[Verdict, list[str]] = {}
    for lead in leads:
        if lead.leader is None:
            name = f"{lead.series.title} on {lead.bench}" if several else lead.series.title
            quiet.setdefault(lead.estimate.verdict, []).append(name)
        else:
            text = f"{lead.series.title} ({lead.bench} {change_text(as_change(lead))})"
            by_leader.setdefault(lead.leader, []).append(text)
    parts = [f"{leader} leads in {listed(names)}" for leader, names in by_leader.items()]
    parts += [f"{v}: {', '.join(names)}" for v, names in quiet.items()]
    return "; ".join(parts)


def change_sentence(change: LeadChange) -> str:
    """Where a lead changed hands, in words."""
    before, after = change.before, change.after
    return (
        f"{after.leader} took the lead in {change.series.title} from {before.leader} between "
        f"{before.last} and {after.first}: {change.bench} over {change.other} was "
        f"{_reign_text(change, before)}, is {_reign_text(change, after)}."
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
    return PlainChange(lead.series, e.scale, e.change, e.low, e.high, e.verdict, e.bound, e.read)


def _columns(answer: AcrossAnswer) -> list[str]:
    names = _measured(answer)
    if len(names) <= _MOST_COLUMNS:
        return names
    turns = {name for x in answer.changes for name in (x.before.last, x.after.first)}
    wanted = [names[-1], names[0], *(n for n in names if n in turns), *reversed(names)]
    chosen = set(list(dict.fromkeys(wanted))[:_MOST_COLUMNS])
    return [name for name in names if name in chosen]


def _grid(answer: AcrossAnswer, bench: str) -> Grid:
    """One bench against the first: metrics in rows, configurations in columns."""
    known = {(x.series, x.configuration): x for x in answer.leads if x.bench == bench}
    series = list(dict.fromkeys(s for s, _ in known))
    columns = _columns(answer)

    def cells(s: Series) -> tuple[GridCell, dict[str, GridCell]]:
        leads = {name: known.get((s, name)) for name in columns}
        return GridCell(), {
            name: GridCell("–")
            if lead is None
            else change_cell(
                as_change(lead), (), Place(bench, s.workload, s.metric, name), lead.estimate.method
            )
            for name, lead in leads.items()
        }

    return Grid(
        tuple(arrange(series, cells)),
        dict.fromkeys(columns, ()),
        None,
        meanings(
            (lead.estimate.verdict for lead in known.values()),
            margin_text(answer.margin),
            better=f"{bench} leads",
            worse=f"{answer.first_bench} leads",
        ),
        f"{100 * answer.confidence:.4g} % intervals",
    )


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
    yield "a lead does not show its cause: benches differ in more than their software"
    missing = [n for n in answer.order if n not in set(_measured(answer))]
    if missing:
        names = listed(missing) if len(missing) < _MOST_COLUMNS else str(len(missing))
        yield f"not measured on two benches: {names}"
