"""What changed since an earlier bundle: verdicts that turned, new configurations, criteria."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Block, GridCell, Items, Line, make_table, sentences
from ferocal.documents.grids import place_of
from ferocal.documents.numbers import change_with_half
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.since import SinceAnswer

# So many new comparisons are named.
_MOST_NAMED = 6


def since_blocks(answer: SinceAnswer) -> Iterator[Block]:
    """What is otherwise than in the bundle, and how much is not."""
    turned = len(answer.turned)
    text = f"Since {answer.source}: {counted(turned, 'verdict')} turned, {answer.kept} did not."
    yield sentences([text])
    if answer.turned:
        rows = [
            [
                GridCell(t.now.configuration),
                GridCell(t.now.series.title),
                *_cells(t.before),
                *_cells(t.now, linked=True),
            ]
            for t in answer.turned
        ]
        heads = ("configuration", "metric", "change before", "verdict before", "change", "verdict")
        yield make_table(heads, rows, right=("change before", "change"))
    lines = list(_others(answer))
    if lines:
        yield Items(tuple((Line(line), ()) for line in lines))


def _cells(effect: Effect, *, linked: bool = False) -> list[GridCell]:
    number = change_with_half(effect)
    place = place_of(effect) if linked else None
    return [
        GridCell(number, place=place),
        GridCell(str(effect.verdict), verdict=effect.verdict if linked else None),
    ]


def _others(answer: SinceAnswer) -> Iterator[str]:
    if answer.baseline is not None:
        yield f"the baseline was {answer.baseline[0]} and is {answer.baseline[1]}"
    if names := answer.configurations:
        yield f"{counted(len(names), 'new configuration')}: {listed(list(names))}"
    if names := answer.removed:
        text = f"{counted(len(names), 'configuration')} {be(len(names))} no longer compared"
        yield f"{text}: {listed(list(names))}"
    if new := answer.new_effects:
        named = [f"{e.series.title} with {e.configuration}" for e in new[:_MOST_NAMED]]
        more = len(new) - len(named)
        rest = [f"{more} more"] if more else []
        yield f"{counted(len(new), 'new comparison')}: {listed([*named, *rest])}"
    for change in answer.criteria:
        place = f"{change.workload} {change.metric}"
        yield f"{change.aspect} of {place} was {change.before} and is {change.now}"
