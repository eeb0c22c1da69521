"""What happened within soaks: falls and rises, and which is better for how long a session."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import Block, Column, make_table, sentences
from ferocal.documents.numbers import change_with_half, duration
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.sessions import Session, SessionChoice
    from ferocal.answers.traces import TraceAnswer, TraceCurves
    from ferocal.traces.curves import SoakCurve, SoakEvent

# At most so many events of a bench are shown, and so many sentences on sessions.
_MOST_EVENTS = 8
_MOST_SENTENCES = 4
# So much of a loss is said to be all of it.
_ALL = 0.95


def course_blocks(answer: TraceAnswer, bench: str) -> Iterator[Block]:
    """The events of the soaks of a bench and what they come to for sessions."""
    for drawn in answer.curves:
        if drawn.bench == bench:
            yield from _event_blocks(drawn)
    said = session_lines([choice for choice in answer.sessions if choice.bench == bench])
    if said:
        yield sentences(said)


def _event_blocks(drawn: TraceCurves) -> Iterator[Block]:
    place, unit = f"{drawn.metric.workload} {drawn.metric.name}", drawn.metric.metric.unit
    rows = [(curve, event) for curve in drawn.curves for event in curve.events]
    calm = [curve.configuration for curve in drawn.curves if not curve.events]
    if rows:
        # The main ones first, where not all have room.
        events = [event for _, event in rows]
        ranked = sorted(
            range(len(rows)), key=lambda n: (not events[n].main, math.isnan(events[n].regained))
        )
        columns = (
            *(Column(head) for head in ("configuration", "event")),
            *(Column(head, right=True) for head in ("at", "from", "to", "lasts", "runs")),
        )
        yield make_table(
            columns,
            [event_row(*rows[n]) for n in sorted(ranked[:_MOST_EVENTS])],
            title=f"{place}, {unit}: falls and rises",
        )
    lines = []
    if len(rows) > _MOST_EVENTS:
        more = counted(len(rows) - _MOST_EVENTS, "further event")
        lines.append(f"{more}: ferocal soak --json")
    if calm:
        names = listed(calm) if len(calm) < _MOST_SENTENCES else counted(len(calm), "configuration")
        lines.append(f"{place}: no fall or rise with {names}")
    if lines:
        yield sentences(lines)


def event_row(curve: SoakCurve, event: SoakEvent) -> tuple[str, ...]:
    """An event as cells: configuration, what it is, when, from, to, how long, in which runs."""
    return (
        curve.configuration,
        event_words(event),
        duration(event.at),
        significant(event.before, 4),
        significant(event.after, 4),
        duration(event.lasts),
        f"{event.seen} of {event.runs}",
    )


def event_words(event: SoakEvent) -> str:
    """What an event is, such as "fall, the main one" or "rise, 55 % of the loss back"."""
    if event.main:
        others = event.main_in < event.seen
        return f"{event.kind}, the main one{f' in {event.main_in}' if others else ''}"
    if math.isnan(event.regained) or event.regained <= 0:
        return event.kind
    return f"{event.kind}, {regained_words(event.regained)}"


def curve_words(curve: SoakCurve) -> str:
    """A configuration with when it falls and rises, for the key of a figure."""
    told = [e for e in curve.events if e.main or e.regained > 0]
    parts = [f"{event_words(e)} at {e.at / 60:.1f} min ({e.seen} of {e.runs})" for e in told]
    return ": ".join(filter(None, [curve.configuration, "; ".join(parts)]))


def regained_words(share: float) -> str:
    """How much of a loss is back."""
    return "all of the loss back" if share >= _ALL else f"{100 * share:.0f} % of the loss back"


def session_lines(choices: Sequence[SessionChoice]) -> list[str]:
    """Which configuration is better for a session of which length, those that differ first."""
    told: list[str] = []
    alike: dict[str, list[str]] = {}
    several = len({(c.workload, c.metric) for c in choices}) > 1
    for choice in choices:
        text, place = session_words(choice), f"{choice.workload}: " if several else ""
        same = {session.effect.verdict for session in choice.sessions}
        if choice.crossing is None and same <= {Verdict.EQUIVALENT, Verdict.INCONCLUSIVE}:
            alike.setdefault(f"{place}{_plain(choice)}", []).append(choice.configuration)
        else:
            told.append(f"{place}{choice.configuration}: {text}")
    more = told[_MOST_SENTENCES:]
    rest = [f"{counted(len(more), 'further configuration')}: ferocal soak --json"] if more else []
    return [
        *told[:_MOST_SENTENCES],
        *rest,
        *(f"{_names(names)}: {text}" for text, names in alike.items()),
    ]


def _names(names: Sequence[str]) -> str:
    return listed(names) if len(names) < _MOST_SENTENCES else counted(len(names), "configuration")


def _plain(choice: SessionChoice) -> str:
    """Verdicts alone, for several configurations of which no more can be said."""
    verdicts = [str(session.effect.verdict) for session in choice.sessions]
    lengths = [_length(session, choice) for session in choice.sessions]
    if len(set(verdicts)) == 1:
        return f"{verdicts[0]} for sessions of {listed(lengths)}"
    return listed([f"{v} for {t}" for v, t in zip(verdicts, lengths, strict=True)])


def session_words(choice: SessionChoice) -> str:
    """For which sessions it is better, by how much, and where the running means cross."""
    parts: list[str] = []
    for session in choice.sessions:
        number = change_with_half(session.effect)
        of = "" if parts else "a session of "
        parts.append(f"{session.effect.verdict} for {of}{_length(session, choice)} ({number})")
    text = ", ".join(parts)
    crossing = choice.crossing
    if crossing is None:
        return text
    span = f"{duration(crossing.low)} to {duration(crossing.high)}"
    side = "ahead" if crossing.better_above else "behind"
    return (
        f"{text}; the running means cross at {duration(crossing.size)} ({span}), "
        f"in longer ones {choice.configuration} is {side}"
    )


def _length(session: Session, choice: SessionChoice) -> str:
    if session.seconds is not None:
        return duration(session.seconds)
    return f"the whole {duration(choice.whole)}" if choice.whole else "the whole time"
