"""Every run of a study: as a dot in the order of time, and in tables for copying."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.answers.readings import DotsChart
from ferocal.documents.blocks import (
    Block,
    Chart,
    Column,
    Details,
    GridCell,
    Place,
    Table,
    make_table,
    run_anchor,
    sentences,
)
from ferocal.documents.numbers import reading_text
from ferocal.documents.tables import short_centre, spread_text
from ferocal.terms.conditions import label_of
from ferocal.terms.numbers import significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.readings import ConditionSummary, RunDots
    from ferocal.answers.report import Report
    from ferocal.ledger.reading.runs import RunRow

# So many of the metrics that decide are drawn; of more runs an export has the table.
_MOST_DRAWN, _MOST_RUNS = 30, 4000
# So many metrics fit beside each other in a table of runs.
_MOST_COLUMNS = 6
_DIGITS = 6


def readings_blocks(report: Report) -> Iterator[Block]:
    """The readings of every metric, folded, then the runs of every workload."""
    several = len({dots.bench for dots in report.dots}) > 1
    deciding = [dots for dots in report.dots if dots.series.role in DECIDING]
    drawn = {id(dots) for dots in (deciding or report.dots)[:_MOST_DRAWN]}
    for dots in report.dots:
        yield _of_metric(report, dots, several=several, drawn=id(dots) in drawn)
    if len(report.runs) > _MOST_RUNS:
        text = f"{len(report.runs)} runs are too many for a page: ferocal export -o readings.csv"
        yield sentences([text])
        return
    places = dict.fromkeys((run.bench, run.workload) for run in report.runs)
    for bench, workload in places:
        runs = [run for run in report.runs if (run.bench, run.workload) == (bench, workload)]
        on = f" on {bench}" if several else ""
        summary = f"table of {counted(len(runs), 'run')} of {workload}{on}"
        yield Details(summary, (_runs_table(report, runs),))


def _of_metric(report: Report, dots: RunDots, *, several: bool, drawn: bool) -> Details:
    series = dots.series
    on = f" on {dots.bench}" if several else ""
    unit = f", {series.unit}" if series.unit else ""
    summary = f"{series.title}{unit}{on}: {counted(len(dots.dots), 'reading')}"
    blocks: list[Block] = []
    if dots.computed_from:
        summary = f"{series.title}{unit}{on}: computed"
        parts = [" ".join(part) for part in dots.computed_from]
        blocks.append(sentences([f"Computed from {listed(parts)}, of which these are the runs."]))
    elif drawn:
        chart = DotsChart("", dots.bench, (dots,))
        names = (dots.bench, series.workload, series.metric)
        blocks.append(Chart("readings", chart, f"{series.title}{unit}{on}, {_order(dots)}", names))
    if dots.other_units:
        text = counted(dots.other_units, "reading")
        blocks.append(sentences([f"Not drawn: {text} in another unit than today's."]))
    anchor = Place(dots.bench, series.workload, series.metric).anchor
    return Details(summary, (*blocks, _centres(report, dots)), anchor)


def _order(dots: RunDots) -> str:
    return "every run in order of time" if dots.in_time else "every run (times unknown)"


def _centres(report: Report, dots: RunDots) -> Table:
    """What was read of every configuration; links from numbers lead to its row."""
    series, cells = dots.series, report.table.cells.get(dots.bench, ())
    found = [c for row in cells for c in row if c is not None and c.series == series]
    rows: list[list[GridCell]] = []
    for cell in found:
        place = Place(dots.bench, series.workload, series.metric, cell.configuration)
        name = GridCell(cell.configuration, anchor=place.anchor)
        runs = counted(cell.runs, "run")
        runs += f" in {counted(cell.rounds, 'round')}" if cell.rounds else ""
        rows.append([name, GridCell(short_centre(cell)), *map(GridCell, (spread_text(cell), runs))])
    heads = ("configuration", f"centre, {series.unit}" if series.unit else "centre", "spread")
    return make_table((*heads, "from"), rows, right=heads[1:])


def _runs_table(report: Report, runs: Sequence[RunRow]) -> Table:
    """The runs of a workload, a column for each of the metrics that decide."""
    bench, workload = runs[0].bench, runs[0].workload
    own = [d.series for d in report.dots if (d.bench, d.series.workload) == (bench, workload)]
    read = [s for s in own if any(s.metric in run.values for run in runs)]
    shown = sorted(read, key=lambda s: s.role not in DECIDING)[:_MOST_COLUMNS]
    heads = [f"{s.label or s.metric}{f', {s.unit}' if s.unit else ''}" for s in shown]
    odd = any(run.excuse for run in runs)
    columns = [Column("run"), Column("time, UTC", whole=True), Column("configuration", whole=True)]
    columns += [Column("round", right=True), *(Column(head, right=True) for head in heads)]
    rows = [
        [
            GridCell(run.id, anchor=run_anchor(run.id)),
            GridCell(run.started_at[:19].replace("T", " ") or "unknown"),
            GridCell(run.configuration),
            GridCell("" if run.round is None else str(run.round)),
            *(GridCell(_value(run, s.metric)) for s in shown),
            *([GridCell(run.excuse)] if odd else []),
        ]
        for run in runs
    ]
    more = len(read) - len(shown)
    caption = f"{counted(more, 'more metric')}: ferocal export -o readings.csv" if more else ""
    columns += [Column("does not count")] if odd else []
    return make_table(columns, rows, caption=caption)


def _value(run: RunRow, metric: str) -> str:
    if metric not in run.values:
        return run.absences[metric][0] if metric in run.absences else "–"
    read = run.values[metric]
    ends = None if read.low is None or read.high is None else (read.low, read.high)
    return reading_text(read.value, ends, read.bound or "", _DIGITS)


def conditions_table(found: ConditionSummary) -> Iterator[Table]:
    """The conditions before runs by configuration; nothing where none were read."""
    names = list(dict.fromkeys(name for known in found.values() for name in known))
    if found:
        rows = [
            [label_of(key), *(_span(known.get(name)) for name in names)]
            for key, known in found.items()
        ]
        caption = "median before the runs (lowest … highest)"
        yield make_table(("condition", *names), rows, right=names, caption=caption)


def _span(ends: tuple[float, float, float] | None) -> str:
    if ends is None:
        return "–"
    low, middle, high = (significant(end, 3) for end in ends)
    return middle if low == high else f"{middle} ({low} … {high})"
