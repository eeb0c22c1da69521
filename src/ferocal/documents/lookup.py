"""A number with its visits and runs, or a run with the answers that it is in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.documents.blocks import Block, Document, Heading, make_table, next_steps, sentences
from ferocal.documents.numbers import change_text, reading_text
from ferocal.documents.tables import short_centre
from ferocal.terms.wording import counted, shortened

if TYPE_CHECKING:
    from ferocal.answers.lookup import Lookup, Match
    from ferocal.ledger.reading.runs import RunRow

_MOST_MATCHES = 4
_MOST_VISITS = 12
_MOST_EFFECTS = 14


def lookup_document(lookup: Lookup) -> Document:
    """What was found."""
    if lookup.run is not None:
        return Document(lookup.question, tuple(_of_run(lookup, lookup.run)))
    blocks = [b for match in lookup.matches[:_MOST_MATCHES] for b in _of_match(match)]
    rest = len(lookup.matches) - _MOST_MATCHES
    if rest > 0:
        text = f"{counted(rest, 'more number')} like {lookup.text}; write the unit, or more digits"
        blocks.append(sentences([text]))
    first = next(iter(lookup.matches[0].runs), None)
    if first is not None:
        blocks.append(next_steps(("the answers that a run is in", f"ferocal lookup {first.id}")))
    return Document(lookup.question, tuple(blocks))


def _of_match(match: Match) -> Iterator[Block]:
    if match.effect is not None:
        e = match.effect
        yield Heading(
            f"{change_text(e)}: {e.series.title}, {e.configuration} against {e.baseline} on "
            f"{e.bench}, {e.verdict}"
        )
        metric = e.series.metric
    else:
        assert match.cell is not None
        c = match.cell
        yield Heading(
            f"{short_centre(c)} {c.series.unit}: {c.series.title}, {c.configuration} on {c.bench}"
        )
        metric = c.series.metric
    rows = [*_visits(match.runs, metric), *_visits(match.base_runs, metric)]
    rest = len(rows) - _MOST_VISITS
    more = f"{counted(rest, 'visit')} more: ferocal runs --metric {metric}" if rest > 0 else ""
    heads = ("configuration", "round", "visit", "runs")
    yield make_table(heads, rows[:_MOST_VISITS], caption=more)


def _visits(runs: Sequence[RunRow], metric: str) -> list[list[str]]:
    """A row for each visit, with its runs and what they read."""
    visits: dict[tuple[str, str, str], list[str]] = {}
    for run in runs:
        place = (run.configuration, str(run.round or ""), run.visit)
        reading = run.values[metric]
        ends = None if reading.low is None or reading.high is None else (reading.low, reading.high)
        text = reading_text(
            reading.value, ends, reading.bound or "", 6,
            statistic=reading.statistic or "", samples=reading.samples,
        )  # fmt: skip
        excuse = f" ({shortened(run.excuse, 30)})" if run.excuse else ""
        visits.setdefault(place, []).append(f"{run.id} {text}{excuse}")
    return [[*place, "; ".join(texts)] for place, texts in visits.items()]


def _of_run(lookup: Lookup, run: RunRow) -> Iterator[Block]:
    where = f"round {run.round}, " if run.round else ""
    lines = [
        f"run {run.id}: {run.workload} with {run.configuration} on {run.bench}, {where}visit "
        f"{run.visit}, run {run.number}, {run.excuse or 'counts'}"
    ]
    lines += [
        f"{name}: {reading.value:.12g} {reading.unit}" for name, reading in run.values.items()
    ]
    lines += [f"{name}: {mark}" for name, (mark, _) in run.absences.items()]
    if lookup.session is not None:
        s = lookup.session
        source = f" from {s.source}" if s.kind == "load" and s.source else ""
        by = f" by {s.operator}" if s.operator else ""
        lines.append(f"brought by {s.kind} {s.id} on {s.at[:10]}{source}{by}")
    yield sentences(lines)
    if not lookup.effects:
        yield sentences(["it is in no answer"])
        return
    rows = [
        [e.series.title, e.configuration, e.baseline, change_text(e), str(e.verdict)]
        for e in lookup.effects[:_MOST_EFFECTS]
    ]
    rest = len(lookup.effects) - len(rows)
    caption = f"{rest} more: ferocal compare --workload {run.workload}" if rest > 0 else ""
    heads = ("it is in", "configuration", "against", "change", "verdict")
    yield make_table(heads, rows, right=("change",), caption=caption)
