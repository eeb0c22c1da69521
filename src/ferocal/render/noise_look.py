"""What a look at a bench has shown of its noise, as text."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from rich.console import Console

from ferocal.render.console import fold, room, show_beside
from ferocal.render.numbers import percent
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted


def show_look(console: Console, figures: Mapping[str, Any], bench: str | None) -> None:
    """Print what this bench can resolve, the figures behind that, and what to change first."""
    for line in look_lines(figures):
        show_beside(console, "", [line], margin=0)
    console.print()
    for line in _figures(figures):
        show_beside(console, "", [line], margin=2)
    console.print()
    minds = list(_minds(figures, bench))
    show_beside(console, "mind", minds)
    nothing = "nothing stands out; more runs a visit, or more rounds, are what is left"
    first: Sequence[str] = figures["first"] or [nothing]
    lines = [line for text in first[:3] for line in fold(text, room(console))]
    show_beside(console, "first", lines, margin=7)


def look_lines(figures: Mapping[str, Any]) -> Iterator[str]:
    """What a bench can resolve, in one or two sentences."""
    known = {row["change"]: row for row in figures["rounds"]}
    middle = known[sorted(known)[len(known) // 2]]
    rounds, runs = middle["rounds"], middle["runs"]
    needs = f"about {counted(rounds, 'round')} of {runs} runs" if rounds else "more than 100 rounds"
    change = f"{100 * middle['change']:g} %"
    yield f"A change of {change} would need {needs}, with a load like this loop."
    others = [row for change, row in known.items() if row is not middle]
    parts = [
        f"{100 * row['change']:g} %: {counted(row['rounds'], 'round')}"
        if row["rounds"]
        else f"{100 * row['change']:g} %: out of reach"
        for row in others
    ]
    yield f"{'; '.join(parts)} (80 % power, one comparison)."


def _figures(figures: Mapping[str, Any]) -> Iterator[str]:
    loop, seconds = 1000 * figures["loop_seconds"], figures["seconds"]
    yield (
        f"spread  {percent(figures['run_sd'])} within stretches, "
        f"{percent(figures['stretch_sd'])} more between them (SD; "
        f"{figures['stretches']} stretches, {figures['runs']} runs of "
        f"{significant(loop, 2)} ms, {significant(seconds, 2)} s)"
    )
    others, stolen = figures["others"], figures["stolen"]
    who = f", {', '.join(figures['busiest'])}" if figures["busiest"] else ""
    yield (
        f"others  {'not known' if others is None else percent(others)}{who}; withheld by the host "
        f"{'not known' if stolen is None else percent(stolen)} of the processors"
    )
    clock = figures["clock_mhz"]
    words = {True: "mains", False: "battery", None: "power not known"}
    moved = "clock not known" if clock is None else f"clock {clock[0]:.0f} … {clock[1]:.0f} MHz"
    governor = figures["governor"] or "not known"
    yield f"power   {words[figures['on_mains']]}; {moved}; governor {governor}"
    yield f"timer   steps of {significant(1e9 * figures['timer_seconds'], 2)} ns"


def _minds(figures: Mapping[str, Any], bench: str | None) -> Iterator[str]:
    yield "stretches stand for visits without switch or reboot, which add noise of their own"
    if bench is None:
        yield "not kept: there is no study here"
    else:
        yield f"kept with the study as a condition of {bench}: ferocal inspect"
