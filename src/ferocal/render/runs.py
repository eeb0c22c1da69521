"""A list of runs as text and as a JSON object."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table

from ferocal.render.console import show_beside
from ferocal.render.numbers import reading_text
from ferocal.render.remarks import show_criteria_changes
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import as_read, significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.runs import RunList
    from ferocal.ledger.reading.runs import RunReading, RunRow
    from ferocal.ledger.reading.visits import VisitRow

_CHART = 24
_WIDE = 90
_DIGITS = 5
# Of more runs these are shown: so many that do not count, then the last ones.
_MOST_RUNS, _MOST_ODD = 30, 15


def show_runs(
    console: Console, listing: RunList, metric: str | None, *, everything: bool = False
) -> None:
    """Print runs in the order of time; of a single metric with a chart of its readings.

    In the chart drift, outliers and modes can be seen; each workload has a scale of its own. Of
    many runs those are shown that do not count, and the last ones, unless all are wanted.
    """
    runs = listing.runs
    console.print(listing.question, style="bold", end="\n\n")
    for line in listing.computed:
        show_beside(console, "", [line], margin=0)
    console.print(_count_line(listing), end="\n\n")
    shown = runs if everything else _most_telling(runs)
    charts = _charts(runs, metric) if metric and console.width >= _WIDE else {}
    if runs:
        wanted = replace(listing, runs=tuple(shown))
        console.print(_runs_table(wanted, charts, narrow=console.width < _WIDE))
    for line in _chart_legend(runs, metric) if charts else []:
        console.print(line)
    if len(shown) < len(runs):
        odd = sum(_is_odd(run) for run in shown)
        which = f"{odd} that do not count and the last ones" if odd else "the last ones"
        console.print(
            f"these are {which}; {len(runs) - len(shown)} more: ferocal runs --all, or limit them "
            "with --workload, --configuration, --round, --outcome"
        )
    show_criteria_changes(console, listing.criteria_changes)
    for line in set_aside_lines(listing.set_aside):
        console.print(line, soft_wrap=True)
    show_beside(console, "next", ["leave out what has a cause for it: ferocal exclude ID"])


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


def _runs_table(listing: RunList, charts: dict[str, str], *, narrow: bool) -> Table:
    several = len(listing.benches) > 1
    # What all runs share stands above the table.
    one_workload = len({run.workload for run in listing.runs}) == 1
    columns = ["id", "time, UTC", "round", *(["bench"] if several else []), "configuration",
               *([] if one_workload else ["workload"]), "readings",
               *(["chart"] if charts else []), "outcome"]  # fmt: skip
    table = plain_table(*columns, right=("round",))
    for column in table.columns:
        column.no_wrap = column.header in ("id", "time, UTC", "round", "chart")
        column.overflow = "fold"
    dates = {run.started_at[:10] for run in listing.runs}
    # A time without a date says more only if all are of one day.
    begin = 11 if len(dates) == 1 else 0
    for run in listing.runs:
        time = run.started_at[begin:19].replace("T", " ") or "unknown"
        cells = [run.id, time, _round(run)]
        cells += [run.bench] if several else []
        cells += [run.configuration, *([] if one_workload else [run.workload])]
        cells += [_values(run, narrow=narrow)]
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
    part = name.rpartition("/")[2]
    return f"{text}, …" if narrow else f"{part} {text}, {others} more"


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
    workloads = {run.workload for run in runs}
    of = f" of {next(iter(workloads))}" if len(workloads) == 1 else ""
    return f"{len(runs)} of {counted(listing.total, 'run')}{of}{order}{span}{details}"
