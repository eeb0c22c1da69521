"""What a look at a bench has shown of its noise."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ferocal.documents.blocks import Document, Items, Line, caveats, next_steps, sentences
from ferocal.documents.numbers import percent
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted

_NOTHING = "nothing stands out; add runs per visit, or rounds"


def noise_document(figures: Mapping[str, Any], bench: str | None) -> Document:
    """What this bench can resolve, the figures behind that, and what to change first."""
    first: Sequence[str] = figures["first"] or [_NOTHING]
    return Document(
        "",
        (
            sentences(look_lines(figures)),
            Items(tuple((line, ()) for line in _figures(figures))),
            *caveats(_caveats(figures, bench)),
            next_steps(*((text, None) for text in first[:3])),
        ),
    )


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


def _figures(figures: Mapping[str, Any]) -> Iterator[Line]:
    loop, seconds = 1000 * figures["loop_seconds"], figures["seconds"]
    yield Line(
        f"{percent(figures['run_sd'])} within stretches, "
        f"{percent(figures['stretch_sd'])} more between them (SD; "
        f"{figures['stretches']} stretches, {figures['runs']} runs of "
        f"{significant(loop, 2)} ms, {significant(seconds, 2)} s)",
        "spread",
    )
    others, stolen = figures["others"], figures["stolen"]
    who = f", {', '.join(figures['busiest'])}" if figures["busiest"] else ""
    unknown = "unknown"
    yield Line(
        f"{unknown if others is None else percent(others)}{who}; steal "
        f"{unknown if stolen is None else percent(stolen)} of processor time",
        "other processes",
    )
    clock = figures["clock_mhz"]
    words = {True: "mains", False: "battery", None: "power source unknown"}
    moved = "clock unknown" if clock is None else f"clock {clock[0]:.0f} … {clock[1]:.0f} MHz"
    governor = figures["governor"] or "unknown"
    yield Line(f"{words[figures['on_mains']]}; {moved}; governor {governor}", "power")
    yield Line(f"steps of {significant(1e9 * figures['timer_seconds'], 2)} ns", "timer")


def _caveats(figures: Mapping[str, Any], bench: str | None) -> Iterator[str | Line]:
    yield "stretches imitate visits without a switch or reboot, which add further noise"
    if bench is None:
        yield "not recorded: no study in this directory"
    else:
        yield Line(f"recorded with the study, for {bench}", command="ferocal inspect")
