"""A list of runs as text and as a JSON object."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table

from ferocal.render.numbers import reading_text
from ferocal.render.remarks import show_criteria_changes
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import as_read, significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.runs import RunList
    from ferocal.ledger.reading.runs import RunReading, RunRow

_CHART = 24
_WIDE = 90
_DIGITS = 5


def show_runs(console: Console, listing: RunList, metric: str | None) -> None:
    """Print runs in the order of time; of a single metric with a chart of its readings.

    In the chart drift, outliers and modes can be seen; each workload has a scale of its own.
    """
    runs = listing.runs
    console.print(listing.question, style="bold", end="\n\n")
    charts = _charts(runs, metric) if metric and console.width >= _WIDE else {}
    if runs:
        console.print(_runs_table(listing, charts, narrow=console.width < _WIDE))
    for line in _chart_legend(runs, metric) if charts else []:
        console.print(line)
    console.print(_count_line(listing))
    show_criteria_changes(console, listing.criteria_changes)
    console.print("next: `ferocal exclude ID` marks runs that have a cause to be left out")


def _runs_table(listing: RunList, charts: dict[str, str], *, narrow: bool) -> Table:
    several = len(listing.benches) > 1
    columns = ["id", "time, UTC", "round", *(["bench"] if several else []), "configuration",
               "workload", "readings", *(["chart"] if charts else []), "outcome"]  # fmt: skip
    table = plain_table(*columns, right=("round",))
    for column in table.columns:
        column.no_wrap = column.header in ("id", "time, UTC", "round", "chart")
    dates = {run.started_at[:10] for run in listing.runs}
    # A time without a date says more only if all are of one day.
    begin = 11 if len(dates) == 1 else 0
    for run in listing.runs:
        time = run.started_at[begin:19].replace("T", " ") or "unknown"
        cells = [run.id, time, _round(run)]
        cells += [run.bench] if several else []
        cells += [run.configuration, run.workload, _values(run, narrow=narrow)]
        cells += [charts.get(run.id, "")] if charts else []
        table.add_row(*cells, f"{run.excuse or run.outcome}{' (warm-up)' if run.warmup else ''}")
    return table


def _values(run: RunRow, *, narrow: bool) -> str:
    """The first reading, and that there are others: with its name where there is room."""
    texts = {name: _reading(reading) for name, reading in run.values.items()}
    for name, (mark, reason) in run.absences.items():
        texts[name] = f"{mark}: {reason}" if reason else mark
    if not texts:
        return "–"
    name, text = next(iter(texts.items()))
    others = len(texts) - 1
    if not others:
        return text
    return f"{text}, …" if narrow else f"{name} {text}, {others} more"


def _reading(reading: RunReading) -> str:
    """A reading as it was made, and what it was before it was corrected."""
    ends = None if reading.low is None or reading.high is None else (reading.low, reading.high)
    text = reading_text(reading.value, ends, reading.bound or "", _DIGITS)
    if reading.before is not None:
        text += f", was {as_read(reading.before, _DIGITS)},"
    return f"{text} {reading.unit}"


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


def _chart_legend(runs: Sequence[RunRow], metric: str | None) -> list[str]:
    lines = [
        f"{workload} {metric}: the chart reaches from {significant(low, _DIGITS)} to "
        f"{significant(high, _DIGITS)} {unit}"
        for (workload, unit), (low, high) in _ends(runs, metric or "").items()
    ]
    return [*lines, "● counts, ○ does not"]


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
    parts += [f"{excluded} of these excluded"] if excluded else []
    details = f" ({listed(parts)})" if parts else ""
    order = "" if undated else " in the order of time"
    return f"{len(runs)} of {counted(listing.total, 'run')}{order}{span}{details}"


def runs_object(listing: RunList) -> dict[str, Any]:
    """The object that `ferocal runs --json` prints."""
    return {
        "criteria_changed": [change.text for change in listing.criteria_changes],
        "runs": [_run_object(run) for run in listing.runs],
    }


def _run_object(run: RunRow) -> dict[str, object]:
    values = {name: vars(reading) for name, reading in run.values.items()}
    absences = {name: {"mark": mark, "reason": why} for name, (mark, why) in run.absences.items()}
    known = run.started_at or None
    return {**vars(run), "started_at": known, "values": values, "absences": absences}
