"""Which release to measure next, and how far the search for a step is, in words."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import change_of
from ferocal.analysis.series.place import VISITS_OF_ENDS
from ferocal.analysis.series.seeking import State
from ferocal.documents.blocks import Document, next_steps
from ferocal.documents.numbers import duration, percent, signed
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from ferocal.answers.seeking import NextVisit, Sought
    from ferocal.answers.series import SeriesAnswer

VISITS_OUT_OF_REACH = "dozens of visits"


def next_text(found: NextVisit, several: bool) -> str:
    """Which release to measure next, and why."""
    again = "again " if found.again else ""
    cost = "" if found.seconds is None else f", {duration(found.seconds)} to get there"
    where = f" on {found.bench}" if several else ""
    return (
        f"measure {found.release} {again}({found.series.title}{where}: the step lies between "
        f"{found.last} and {found.first_release}{cost})"
    )


def next_command(answer: SeriesAnswer, found: NextVisit) -> str | None:
    """The command that makes a visit: one that the plan has, or one more; None where none does.

    What was loaded or typed is not measured by a command.
    """
    kinds = answer.prospects[found.bench].kinds
    if kinds and "measure" not in kinds:
        return None
    if found.again:
        return f"ferocal measure --seek {answer.factor}"
    return f"ferocal measure --level {answer.factor}={found.release}"


def next_document(answer: SeriesAnswer) -> Document:
    """Which release to measure next, and nothing else."""
    return Document("", (next_steps(*_steps(answer)),))


def _steps(answer: SeriesAnswer) -> Iterator[tuple[str, str | None]]:
    found = answer.next_visit
    seek = f"ferocal measure --seek {answer.factor}"
    if found is None and answer.unsearched:
        yield "too little is known about the first and the last release: visit these first", seek
    elif found is None:
        yield "no further visit would narrow down a step", None
    else:
        several = len({v.bench for v in answer.values}) > 1
        command = next_command(answer, found)
        yield next_text(found, several), command
        if command and not found.again and not found.by_hand:
            yield "unattended, until the step is located", seek


def sought_text(sought: Sought) -> str:
    """How far a search for a step is, in words."""
    names = [release.name for release in sought.line.releases]
    ends = f"{names[sought.first]} and {names[sought.last]}"
    title, seeking = sought.series.title, sought.seeking
    if seeking.state is State.ENDS:
        return (
            f"first the ends, {ends}, {VISITS_OF_ENDS} visits each; a dip between two ends "
            "that are alike cannot be found like this"
        )
    if seeking.known is None or seeking.state is State.NO_STEP:
        return f"no step of {title} was detected between {ends}, so nothing to seek"
    known = seeking.known
    size = change_of(known.change, sought.scale) * (100 if sought.scale == "ratio" else 1)
    unit = "%" if sought.scale == "ratio" else sought.series.unit
    by = f"by about {signed(size, 1)} {unit}"
    # Nothing is said to change before all visits show it.
    step = f"{title} changes {by}" if seeking.shown else f"{title} may change {by}, not shown yet"
    if seeking.state is State.OUT_OF_REACH and not seeking.shown:
        return (
            f"no step of {title} was shown between {ends}: if there is one, it is so small beside "
            f"the noise between visits that {VISITS_OUT_OF_REACH} would not locate it; "
            f"{_remedy(sought)}"
        )
    if seeking.state is State.OUT_OF_REACH:
        return (
            f"{step} between {ends}, only {significant(known.separation, 2)} times the noise "
            f"between visits: {VISITS_OUT_OF_REACH} would not locate it; {_remedy(sought)}"
        )
    low, high = known.span()
    begin, end = names[sought.first + low], names[sought.first + high + 1]
    chance = percent(float(known.chance[low : high + 1].sum()))
    if seeking.state is State.FOUND:
        return f"found: {step} between {begin} and {end} ({chance})"
    return f"{step}, between {begin} and {end} ({chance})"


def _remedy(sought: Sought) -> str:
    """What would bring a step within reach: more runs per visit, where runs vary most."""
    if sought.runs_needed is None:
        return "more runs per visit would not help: visits themselves vary as much"
    return f"{sought.runs_needed} runs per visit instead of {sought.runs:g} would"
