"""A table of readings."""

from __future__ import annotations

import math
import statistics
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.data.gaps import GapMark
from ferocal.documents.blocks import (
    MOST_ROWS,
    Base,
    Block,
    Document,
    Grid,
    GridCell,
    Heading,
    Line,
    Lines,
    Place,
    Row,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.grids import arrange
from ferocal.documents.remarks import remark_lines
from ferocal.documents.tables import bounds_note, short_centre, spread_text
from ferocal.terms.numbers import significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.units import has_ratios
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.analysis.data.gaps import Gap
    from ferocal.analysis.data.series import Series
    from ferocal.answers.best import Best
    from ferocal.answers.table import ReadingsTable

_FIRST = GridCell(sign="*", strong=True)
_TIED = GridCell(sign="\N{ALMOST EQUAL TO}")
_NONE = GridCell(sign=" ")
_MEANINGS = (("*", "best of its row"), ("\N{ALMOST EQUAL TO}", "statistically tied with it"))


def table_document(table: ReadingsTable, *, everything: bool = False) -> Document:
    """What was read, one bench after the other; without details unless they were asked for."""
    blocks: list[Block] = []
    hidden = 0
    for bench, rows in table.cells.items():
        if len(table.cells) > 1:
            blocks.append(Heading(f"bench {bench}"))
        shown = {
            series: row
            for row in rows
            if (series := next((cell.series for cell in row if cell is not None), None))
            and (everything or table.asked or series.role in DECIDING)
        }
        hidden = max(hidden, sum(any(row) for row in rows) - len(shown))
        many = len(shown) > MOST_ROWS and not everything
        blocks.append(_count_best(table, bench, shown) if many else _grid(table, bench, shown))
    lines = remark_lines(table, table.mixed)
    if hidden:
        text = f"{counted(hidden, 'metric')} of role detail {be(hidden)} hidden"
        lines.append(Line(text, command="ferocal table --detail"))
    blocks += caveats(lines)
    steps = next_steps(("which differences hold", "ferocal compare"))
    return Document(table.question, (*blocks, steps))


def _count_best(
    table: ReadingsTable, bench: str, rows: Mapping[Series, Sequence[Cell | None]]
) -> Table:
    """Of many metrics, how often each configuration is the best one or near it."""
    found = [
        _signs(series, [c for c in row if c is not None], table.best.get((bench, series)))
        for series, row in rows.items()
    ]
    return make_table(
        (f"best of {counted(len(rows), 'metric')}, or tied with it", "metrics"),
        [[name, str(sum(name in best for best in found))] for name in table.configurations],
        right=("metrics",),
        caption="all of them: ferocal table --detail",
    )


def _grid(
    table: ReadingsTable, bench: str, rows: Mapping[Series, Sequence[Cell | None]]
) -> Grid | Lines:
    if not rows:
        return sentences(["no readings"])
    gaps = {(g.workload, g.metric, g.configuration): g for g in table.gaps if g.bench == bench}
    told = {g.configuration for g in gaps.values() if g.mark is not GapMark.NOT_MEASURED}
    names = [
        name
        for c, name in enumerate(table.configurations)
        if name in told or any(row[c] for row in rows.values())
    ]
    counts = Counter(cell.runs for row in rows.values() for cell in row if cell is not None)
    usual = counts.most_common(1)[0][0]

    def cells_of(series: Series) -> tuple[GridCell, dict[str, GridCell]]:
        known = dict(zip(table.configurations, rows[series], strict=True))
        place = (series.workload, series.metric)
        read = [cell for cell in known.values() if cell is not None]
        signs = _signs(series, read, table.best.get((bench, series)))
        cells = {
            name: _grid_cell(known[name], gaps.get((*place, name)), usual, signs.get(name, _NONE))
            for name in names
        }
        text = next(iter(signs)) if len(signs) == 1 else f"{len(signs)} tied" if signs else "–"
        return GridCell(text), cells

    evidence = "one reading each"
    if max(counts) > 1:
        unless = " unless noted" if len(counts) > 1 else ""
        evidence = "centre of the visits ± coefficient of variation of single runs, "
        evidence += f"{counted(usual, 'run')}{unless}"
    several = len(names) > 1
    summaries = _summaries(rows)
    return Grid(
        (*arrange(list(rows), cells_of), *_summary_rows(summaries, table.configurations, names)),
        dict.fromkeys(names, ()),
        Base("best") if several else None,
        _MEANINGS if several else (),
        evidence,
    )


def _summaries(
    rows: Mapping[Series, Sequence[Cell | None]],
) -> dict[Series, list[Sequence[Cell | None]]]:
    """The rows of every suite: one metric of several workloads of a group, by the first of them."""
    suites: dict[tuple[str, str, str, str], dict[Series, Sequence[Cell | None]]] = {}
    for series, row in rows.items():
        if series.better != "none" and not series.depth and has_ratios(series.unit):
            key = (series.group, series.metric, series.unit, series.better)
            suites.setdefault(key, {})[series] = row
    return {next(iter(of)): list(of.values()) for of in suites.values() if len(of) > 1}


def _summary_rows(
    suites: Mapping[Series, Sequence[Sequence[Cell | None]]],
    configurations: Sequence[str],
    names: Sequence[str],
) -> Iterator[Row]:
    """Geometric mean and median of groups of metrics, of what was read with all of them."""
    for suite, members in suites.items():
        columns = {
            name: [cell.centre for cell in column if cell is not None and cell.bound is None]
            for name, column in zip(configurations, zip(*members, strict=True), strict=True)
            if name in names
        }
        name = " ".join(filter(None, [suite.group, suite.metric]))
        yield Row(f"— {name} of {counted(len(members), 'workload')} —")
        for label, of in (("geometric mean", _geometric_mean), ("median", statistics.median)):
            cells = {
                name: GridCell(significant(of(values), 4))
                if len(values) == len(members) and min(values) > 0
                else GridCell("–")
                for name, values in columns.items()
            }
            yield Row(label, cells, suite.unit, suite.better, GridCell(), 1)


def _geometric_mean(values: Sequence[float]) -> float:
    return math.exp(statistics.fmean(math.log(value) for value in values))


def _grid_cell(cell: Cell | None, gap: Gap | None, usual: int, sign: GridCell) -> GridCell:
    """Centre and spread, or why there is none."""
    if cell is None:
        if gap is None:
            return replace(sign, number="–")
        reason = (gap.reason,) if gap.reason else ()
        return replace(sign, number=str(gap.mark), notes=reason)
    notes: tuple[str, ...] = () if cell.runs == usual else (counted(cell.runs, "run"),)
    notes += (bounds_note(cell),) if cell.bounds else ()
    series = cell.series
    place = Place(cell.bench, series.workload, series.metric, cell.configuration)
    text = short_centre(cell)
    return replace(sign, number=text, rest=spread_text(cell), notes=notes, place=place)


def _signs(series: Series, cells: Sequence[Cell], best: Best | None) -> dict[str, GridCell]:
    """The sign of the best configuration, and of those that are statistically tied with it."""
    known = [cell for cell in cells if cell.configuration != "control"]
    if series.better == "none" or len(known) < 2:
        return {}
    if best is None:
        return dict.fromkeys(_best_of_bounds(series, known), _FIRST)
    tied = dict.fromkeys(best.tied if best.known else (), _TIED)
    return {**tied, best.leader: _FIRST}


def _best_of_bounds(series: Series, known: Sequence[Cell]) -> list[str]:
    """Which configurations are best where some are only bounds; none where that is unknown."""
    numbers = [cell for cell in known if cell.bound is None]
    sign = 1 if series.better == "higher" else -1
    beyond = [c for c in known if c.bound == (">" if sign > 0 else "<")]
    below = [c for c in known if c.bound not in (None, ">" if sign > 0 else "<")]
    best = max((cell.centre * sign for cell in numbers), default=-math.inf)
    if any(c.centre * sign < best for c in beyond) or any(c.centre * sign > best for c in below):
        return []
    if len(known) == len(beyond):
        return []
    return [cell.configuration for cell in beyond]
