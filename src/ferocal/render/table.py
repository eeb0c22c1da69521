"""A table of readings as text and as a JSON object."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.data.gaps import GapMark
from ferocal.analysis.data.series import margin_on_scale
from ferocal.render.console import Text, plain_words
from ferocal.render.grid import (
    MOST_ROWS,
    Base,
    Footnotes,
    GridCell,
    GridRow,
    Shape,
    arrange,
    lay_out,
)
from ferocal.render.remarks import remark_lines
from ferocal.render.tables import bounds_note, short_centre, spread_text
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.analysis.data.gaps import Gap
    from ferocal.analysis.data.series import Series
    from ferocal.answers.table import ReadingsTable

_MARK = "*"


def show_table(console: Console, table: ReadingsTable, *, everything: bool = False) -> None:
    """Print the table, one bench after the other; without details unless they were asked for."""
    console.print(table.question, style="bold", end="\n\n")
    shape = Shape(console.width, words=plain_words(console))
    hidden = 0
    for bench, rows in table.cells.items():
        if len(table.cells) > 1:
            console.print(f"bench {bench}", style="bold")
        shown = {
            series: row
            for row in rows
            if (series := next((cell.series for cell in row if cell is not None), None))
            and (everything or table.asked or series.role in DECIDING)
        }
        hidden = max(hidden, sum(any(row) for row in rows) - len(shown))
        many = len(shown) > MOST_ROWS and not everything
        lines = _count_best(table, shown) if many else _lines(table, bench, shown, shape)
        for line in lines:
            console.print(line, soft_wrap=True)
        console.print()
    for text, command in remark_lines(table):
        console.print(f"{text}: {command}")
    if hidden:
        verb = be(hidden)
        console.print(f"{counted(hidden, 'more metric')} {verb} details: ferocal table --detail")
    console.print("next  which differences hold: ferocal compare")


def _count_best(
    table: ReadingsTable, rows: Mapping[Series, Sequence[Cell | None]]
) -> Iterator[Text]:
    """Of many metrics, how often each configuration is the best one or near it."""
    found = [_best(series, [c for c in row if c is not None]) for series, row in rows.items()]
    yield Text(f"{counted(len(rows), 'metric')}; best, or within the margin of the best, in")
    for name in table.configurations:
        yield Text(f"  {sum(name in best for best in found):>6}  {name}")
    yield Text("all of them: ferocal table --detail", "dim")


def _lines(
    table: ReadingsTable, bench: str, rows: Mapping[Series, Sequence[Cell | None]], shape: Shape
) -> Iterator[Text]:
    if not rows:
        yield Text("nothing was read")
        return
    gaps = {(g.workload, g.metric, g.configuration): g for g in table.gaps if g.bench == bench}
    told = {g.configuration for g in gaps.values() if g.mark is not GapMark.NOT_MEASURED}
    names = [
        name
        for c, name in enumerate(table.configurations)
        if name in told or any(row[c] for row in rows.values())
    ]
    notes = Footnotes(words=shape.words)
    counts = Counter(cell.runs for row in rows.values() for cell in row if cell is not None)
    usual = counts.most_common(1)[0][0]

    def cells_of(series: Series) -> tuple[str, dict[str, GridCell]]:
        known = dict(zip(table.configurations, rows[series], strict=True))
        place = (series.workload, series.metric)
        cells = {
            name: _grid_cell(known[name], gaps.get((*place, name)), usual, notes) for name in names
        }
        best = _best(series, [cell for cell in known.values() if cell is not None])
        marked = {n: replace(c, sign=_MARK if n in best else " ") for n, c in cells.items()}
        return best[0] if len(best) == 1 else f"{len(best)} alike" if best else "–", marked

    grid: list[GridRow] = list(arrange(list(rows), shape, cells_of))
    base = Base("best", "") if len(names) > 1 else None
    yield from lay_out(grid, {name: name for name in names}, shape, base)
    runs = f"of {counted(usual, 'run')}" + (" unless noted" if len(counts) > 1 else "")
    if max(counts) == 1:
        yield Text("one reading each", "dim")
    else:
        text = f"centre of the visits, ± coefficient of variation of single runs, {runs}"
        yield Text(text, "dim")
    if base is not None:
        yield Text(f"{_MARK} best, and what is within the margin of it; no verdict", "dim")
    yield from (Text(line, "dim") for line in notes.lines)


def _grid_cell(cell: Cell | None, gap: Gap | None, usual: int, notes: Footnotes) -> GridCell:
    """Centre and spread, or why there is none."""
    if cell is None:
        if gap is None:
            return GridCell("–")
        return GridCell(str(gap.mark), mark=notes.mark(gap.reason) if gap.reason else "")
    marks = ""
    if cell.runs != usual:
        marks += notes.mark(counted(cell.runs, "run"))
    if cell.bounds:
        marks += notes.mark(bounds_note(cell))
    return GridCell(short_centre(cell), spread_text(cell), mark=marks)


def _best(series: Series, cells: Sequence[Cell]) -> list[str]:
    """The configuration with the best centre, and those within the margin of it."""
    known = [cell for cell in cells if cell.configuration != "control"]
    numbers = [cell for cell in known if cell.bound is None]
    if series.better == "none" or len(known) < 2 or not numbers:
        return []
    sign = 1 if series.better == "higher" else -1
    best = max(cell.centre * sign for cell in numbers) * sign
    # What is only known to be beyond the best number is best; before it, nobody knows.
    beyond = [c for c in known if c.bound == (">" if sign > 0 else "<")]
    below = [c for c in known if c.bound not in (None, ">" if sign > 0 else "<")]
    if any(c.centre * sign < best * sign for c in beyond) or any(
        c.centre * sign > best * sign for c in below
    ):
        return []
    near = [c for c in numbers if _is_near(series, c.centre, best)]
    return [cell.configuration for cell in beyond or near]


def _is_near(series: Series, value: float, best: float) -> bool:
    """Whether a centre is within the margin of the best one; else only if it is the same."""
    if series.unit_margin is not None:
        return abs(value - best) <= series.unit_margin
    if min(value, best) <= 0:
        return value == best
    return abs(math.log(value / best)) <= margin_on_scale(series, "ratio")
