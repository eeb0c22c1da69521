"""Noise as a document: what a look at a bench has shown, and noise floors of other studies."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import share_of
from ferocal.documents.blocks import (
    Document,
    Items,
    Line,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.numbers import percent
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.ledger.records import NoiseFloorRecord

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


def noise_floors_document(records: Sequence[NoiseFloorRecord], *, brought: bool) -> Document:
    """Noise floors that were imported just now, or all that are known."""
    numbers = ("visit SD", "degrees", "runs")
    rows = []
    for record in records:
        sd = math.sqrt(record.variance)
        spread = (
            percent(share_of(sd))
            if record.scale == "ratio"
            else f"{significant(sd, 2)} {record.unit}"
        )
        place = (record.bench, record.workload, record.metric)
        cells = (spread, str(record.degrees), f"{record.runs:.3g}")
        rows.append([*place, *cells, record.measured_at[:10] or "unknown", record.source])
    heads = ("bench", "workload", "metric", *numbers, "measured", "source")
    caption = (
        "visit SD: standard deviation between visits; degrees: its degrees of freedom; the latest "
        "of several counts"
    )
    count = counted(len(records), "noise floor")
    return Document(
        "",
        (
            sentences([f"imported {count}" if brought else f"{count} known"]),
            make_table(heads, rows, right=numbers, caption=caption),
            next_steps(("compare with them", "ferocal compare")),
        ),
    )
