"""The fewest configurations that separate the effects of all factors."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.documents.blocks import (
    Block,
    Code,
    Document,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.numbers import duration
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.plan.separation import Separation


def separation_document(found: Separation) -> Document:
    """The configurations, what they separate and cost, and how the study file says so."""
    rows = [
        [
            proposed.name,
            *(proposed.levels[f] for f in found.factors),
            "new" if proposed.new else "in the study" if number else "baseline",
        ]
        for number, proposed in enumerate(found.configurations)
    ]
    blocks: list[Block] = [sentences([_answer(found)])]
    blocks.append(make_table(("configuration", *found.factors, ""), rows))
    if any(proposed.new for proposed in found.configurations):
        blocks.append(Code("\n".join(toml_lines(found))))
    blocks += caveats(_caveats(found))
    step = ("add them to study.toml, then take the runs", "ferocal measure")
    return Document(found.question, (*blocks, next_steps(step)))


def _answer(found: Separation) -> str:
    new = sum(proposed.new for proposed in found.configurations)
    what = listed(list(found.factors))
    if found.interactions:
        pairs = listed([" × ".join(pair) for pair in found.interactions])
        what += f", and the interaction{'s' if len(found.interactions) > 1 else ''} {pairs}"
    news = f"{new} of them new" if new else "all of them in the study"
    cost = counted(found.switches, "switch", "switches")
    if found.seconds:
        cost += f", {duration(found.seconds)}"
    count = counted(len(found.configurations), "configuration")
    return f"{count}, {news}, separate the effects of {what}; {cost} a round in this order."


def toml_lines(found: Separation) -> Iterator[str]:
    """The tables of the study file that ask for just these configurations."""
    yield "[configuration]"
    yield 'design = "listed"'
    yield f"baseline = {json.dumps(found.configurations[0].name, ensure_ascii=False)}"
    for proposed in found.configurations:
        levels = ", ".join(
            f"{json.dumps(f, ensure_ascii=False)} = {json.dumps(v, ensure_ascii=False)}"
            for f, v in proposed.levels.items()
        )
        name = json.dumps(proposed.name, ensure_ascii=False)
        yield f"named.{name} = {{ {levels} }}"


def _caveats(found: Separation) -> Iterator[str]:
    if found.inseparable:
        names = list(found.inseparable)
        yield f"no possible configuration separates {listed(names)} from the others"
    if found.unneeded:
        names = list(found.unneeded)
        shown = names if len(names) <= 6 else [*names[:6], f"{len(names) - 6} more"]
        yield (f"{listed(shown)} {be(len(names))} not needed for that, but would show interactions")
