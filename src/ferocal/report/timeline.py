"""Single readings in the order of time, each with its place on a common scale."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from ferocal.analysis.readings import Series, TimedReading
from ferocal.report.numbers import significant
from ferocal.report.tables import plain_table, series_label
from ferocal.wording import counted

_CHART = 30
_DIGITS = 5


def timeline(
    readings: Mapping[Series, Sequence[TimedReading]], *, chart: bool = True
) -> RenderableType:
    """A table for each series, with a chart in which drift and outliers can be seen."""
    parts: list[RenderableType] = []
    for series, rows in readings.items():
        table = plain_table("time, UTC", "round", "configuration", series.unit, "", "")
        table.columns[1].justify = table.columns[3].justify = "right"
        for column in table.columns[:-1]:
            column.no_wrap = True  # only what is said of a run may fold
        ends = _ends(rows)
        dates = list(dict.fromkeys(row.started_at[:10] for row in rows))
        begin = 11 if len(dates) == 1 else 5
        for row in rows:
            table.add_row(
                row.started_at[begin:19].replace("T", " "),
                "" if row.round is None else str(row.round),
                row.configuration,
                "–" if row.value is None else significant(row.value, _DIGITS),
                _place(row, ends) if chart else "",
                row.note,
            )
        heading = Text.assemble((series.workload, "bold"), f"  {series_label(series)}")
        span = dates[0] if len(dates) == 1 else f"{dates[0]} to {dates[-1]}"
        foot = f"{counted(len(rows), 'run')} in the order of time, {span}"
        if ends is not None and chart:
            low, high = (significant(end, _DIGITS) for end in ends)
            foot += f"; the chart reaches from {low} to {high} {series.unit}"
            foot += "; ● counts, ○ does not"
        parts += [heading, table, Padding(Text(foot), (0, 0, 1, 0))]
    return Group(*parts)


def _ends(rows: Sequence[TimedReading]) -> tuple[float, float] | None:
    values = [row.value for row in rows if row.value is not None]
    return (min(values), max(values)) if values else None


def _place(row: TimedReading, ends: tuple[float, float] | None) -> str:
    """The reading as a mark on a line from the lowest to the highest of its series."""
    if row.value is None or ends is None:
        return ""
    low, high = ends
    share = (row.value - low) / (high - low) if high > low else 0.5
    place = round(share * (_CHART - 1))
    mark = "○" if row.note else "●"
    return "·" * place + mark + "·" * (_CHART - 1 - place)
