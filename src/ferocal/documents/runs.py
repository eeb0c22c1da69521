"""A list of runs, and of notes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.documents.blocks import (
    Block,
    Column,
    Document,
    GridCell,
    Line,
    Lines,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.changes import criteria_text
from ferocal.documents.numbers import reading_text
from ferocal.terms.numbers import as_read, significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.runs import RunList
    from ferocal.ledger.reading.runs import RunReading, RunRow
    from ferocal.ledger.reading.visits import VisitRow
    from ferocal.ledger.records import Note

_CHART = 24
_DIGITS = 5
# Of more runs these are shown: so many that do not count, then the last ones.
_MOST_RUNS, _MOST_ODD = 30, 15


def runs_document(
    listing: RunList, metric: str | None = None, *, everything: bool = False
) -> Document:
    """Runs in the order of time; of a single metric with a chart of its readings.

    In the chart drift, outliers and modes can be seen; each workload has a separate scale. Of
    many runs those are shown that do not count, and the last ones, unless all are wanted.
    """
    runs = listing.runs
    blocks: list[Block] = [sentences([*_computed(listing), _count_line(listing)])]
    shown = runs if everything else _most_telling(runs)
    charts = _charts(runs, metric) if metric else {}
    if runs:
        legend = _chart_legend(runs, metric) if charts else ()
        blocks.append(_runs_table(replace(listing, runs=tuple(shown)), charts, legend))
    lines = []
    if len(shown) < len(runs):
        odd = sum(_is_odd(run) for run in shown)
        latest = len(shown) - odd
        verb = "does" if odd == 1 else "do"
        which = f"the {counted(odd, 'run')} that {verb} not count and " if odd else ""
        lines.append(
            f"shown: {which}the latest {latest}; all {len(runs)}: ferocal runs --all; filters: "
            "--workload, --configuration, --round, --outcome"
        )
    blocks += [Lines(tuple(map(Line, lines)), "note")] if lines else []
    minds = [f"criteria changed: {criteria_text(change)}" for change in listing.criteria_changes]
    blocks += caveats([*minds, *set_aside_lines(listing.set_aside)])
    step = ("exclude a run for a known cause", "ferocal exclude ID --reason TEXT")
    return Document(listing.question, (*blocks, next_steps(step)))


def _computed(listing: RunList) -> Iterator[str]:
    """From what metrics are computed that are not read."""
    for metric, parts in listing.computed.items():
        read = listed([" ".join(part) for part in parts])
        yield f"{' '.join(metric)} is computed from {read}, of which these are the runs"


def set_aside_lines(visits: Sequence[VisitRow]) -> list[str]:
    """Visits that do not count since a check failed, with what the check saw."""
    lines = []
    for visit in visits:
        where = visit.configuration + ("" if visit.round is None else f", round {visit.round}")
        failed = [
            f"{check['level']}: expected {check['expected']}, seen {check['seen']}"
            for check in visit.checks
            if not check["holds"]
        ]
        lines.append(f"visit set aside, {where}: {'; '.join(failed) or visit.state}")
    return lines


def _is_odd(run: RunRow) -> bool:
    return bool(run.excuse) and not run.warmup


def _most_telling(runs: Sequence[RunRow]) -> list[RunRow]:
    """The runs that fit a screen: those that do not count, and the last ones."""
    if len(runs) <= _MOST_RUNS:
        return list(runs)
    odd = [n for n, run in enumerate(runs) if _is_odd(run)][:_MOST_ODD]
    last = range(len(runs) - _MOST_RUNS + len(odd), len(runs))
    return [runs[n] for n in sorted({*odd, *last})]


def _runs_table(listing: RunList, charts: dict[str, str], legend: tuple[str, ...]) -> Table:
    several = len(listing.benches) > 1
    # What all runs share stands above the table.
    one_workload = len({run.workload for run in listing.runs}) == 1
    columns = [Column("id", whole=True), Column("time, UTC", whole=True)]
    columns += [Column("round", right=True, whole=True), *([Column("bench")] if several else [])]
    columns += [Column("configuration"), *([] if one_workload else [Column("workload")])]
    columns += [Column("readings")]
    columns += [Column("chart", whole=True, spare=True, notes=legend)] if charts else []
    dates = {run.started_at[:10] for run in listing.runs}
    # A time without a date says more only if all are of one day.
    begin = 11 if len(dates) == 1 else 0
    rows = []
    for run in listing.runs:
        time = run.started_at[begin:19].replace("T", " ") or "unknown"
        cells: list[str | GridCell] = [run.id, time, _round(run)]
        cells += [run.bench] if several else []
        cells += [run.configuration, *([] if one_workload else [run.workload])]
        cells += [_values(run)]
        cells += [charts.get(run.id, "")] if charts else []
        outcome = f"{run.excuse or run.outcome}{' (warm-up)' if run.warmup else ''}"
        rows.append([*cells, outcome])
    return make_table([*columns, "outcome"], rows)


def _values(run: RunRow) -> GridCell:
    """The first reading, and that there are others: with its name where there is room."""
    texts = {name: _reading(reading) for name, reading in run.values.items()}
    for name, (mark, reason) in run.absences.items():
        texts[name] = f"{mark}: {reason}" if reason else mark
    if not texts:
        return GridCell("–")
    name, text = next(iter(texts.items()))
    others = len(texts) - 1
    if not others:
        return GridCell(text)
    return GridCell(f"{name.rpartition('/')[2]} {text}, {others} more", shorter=f"{text}, …")


def _reading(reading: RunReading) -> str:
    """A reading as it was made, and what it was before it was corrected."""
    ends = None if reading.low is None or reading.high is None else (reading.low, reading.high)
    number = reading_text(
        reading.value,
        ends,
        reading.bound or "",
        _DIGITS,
        statistic=reading.statistic or "",
        samples=reading.samples,
    )
    text = f"{number} {reading.unit}"
    if reading.before is not None:
        text += f" (corrected; was {as_read(reading.before, _DIGITS)} {reading.unit})"
    return text


def _round(run: RunRow) -> str:
    return "" if run.round is None else str(run.round)


def _ends(runs: Sequence[RunRow], metric: str) -> dict[tuple[str, str], tuple[float, float]]:
    """The lowest and highest reading of the metric by workload and unit."""
    seen: dict[tuple[str, str], list[float]] = {}
    for run in runs:
        if metric in run.values:
            reading = run.values[metric]
            seen.setdefault((run.workload, reading.unit), []).append(reading.value)
    return {place: (min(values), max(values)) for place, values in seen.items()}


def _charts(runs: Sequence[RunRow], metric: str) -> dict[str, str]:
    """By run, its reading as a mark on a line from the lowest to the highest of its workload."""
    ends, charts = _ends(runs, metric), {}
    for run in runs:
        if metric in run.values:
            reading = run.values[metric]
            low, high = ends[run.workload, reading.unit]
            share = (reading.value - low) / (high - low) if high > low else 0.5
            place = round(share * (_CHART - 1))
            mark = "○" if run.excuse else "●"
            charts[run.id] = "·" * place + mark + "·" * (_CHART - 1 - place)
    return charts


def _chart_legend(runs: Sequence[RunRow], metric: str | None) -> tuple[str, ...]:
    lines = [
        f"{workload} {metric}: the chart reaches from {significant(low, _DIGITS)} to "
        f"{significant(high, _DIGITS)} {unit}"
        for (workload, unit), (low, high) in _ends(runs, metric or "").items()
    ]
    return (*lines, "● counts, ○ does not")


def _count_line(listing: RunList) -> str:
    runs = listing.runs
    days = sorted({run.started_at[:10] for run in runs if run.started_at})
    span = "" if not days else f", {days[0]}" if len(days) == 1 else f", {days[0]} to {days[-1]}"
    undated = sum(not run.started_at for run in runs)
    if undated:
        span += ", date unknown" if undated == len(runs) else f", {undated} of unknown date"
    outcomes = Counter(run.outcome for run in runs if not run.warmup)
    parts = [f"{count} {outcome}" for outcome, count in outcomes.most_common()]
    warmups = sum(run.warmup for run in runs)
    parts += [counted(warmups, "warm-up")] if warmups else []
    excluded = sum(run.excluded is not None for run in runs)
    details = f" ({listed(parts)})" if parts else ""
    if excluded:
        which = "all" if excluded == len(runs) > 1 else str(excluded)
        details = f"{details[:-1]}, {which} excluded)" if details else f" ({which} excluded)"
    order = "" if undated else " in order of time"
    workloads = {run.workload for run in runs}
    of = f" of {next(iter(workloads))}" if len(workloads) == 1 else ""
    return f"{len(runs)} of {counted(listing.total, 'run')}{of}{order}{span}{details}"


def notes_document(notes: Sequence[tuple[str, Note]]) -> Document:
    """A line for each note: when it was made, on what, its text, and what is known of that."""
    lines = [f"{at[:16]} {note_text(note)}" for at, note in notes]
    return Document("", (sentences(lines or ['no notes yet; add one: ferocal note "no sound"']),))


def note_text(note: Note) -> str:
    """A note with its subject, and when and where that was seen as far as it is known."""
    known = [note.date[:10] if note.date else "", note.source or ""]
    seen = ", ".join(filter(None, known))
    return f"{note.subject}: {note.text}" + (f" ({seen})" if seen else "")
