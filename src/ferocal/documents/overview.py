"""The overview: metrics in rows, configurations in columns, a verdict in every cell."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.data.gaps import GapMark
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import has_evidence, speed_factor
from ferocal.analysis.inference.reach import reach_of
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.answers.summaries import ALL, PRIMARY
from ferocal.documents.answer import is_clearly_worse
from ferocal.documents.blocks import (
    MOST_ROWS,
    Base,
    Block,
    Details,
    Grid,
    GridCell,
    Line,
    Lines,
    Place,
    make_table,
)
from ferocal.documents.grids import STATED_NOTE, arrange, change_cell, meanings, place_of
from ferocal.documents.numbers import change_words, decimals_for
from ferocal.documents.tables import bounds_note, short_centre
from ferocal.documents.wording import VERDICT_MARKS, evidence_text, margins_text
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.analysis.data.cells import Cell
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.compare import Comparison

# The largest changes of a verdict are named, so many of them.
_MOST_NAMED = 3
# A metric that moves more than half of a group as one is named.
_MOSTLY = 0.5
_STANDS_FOR = "the row is relative to this, in place of the baseline"


def overview_blocks(
    comparison: Comparison,
    series: Sequence[Series],
    *,
    only: Sequence[str] = (),
    as_factor: bool = False,
) -> Iterator[Block]:
    """The grid of one bench; of very many metrics how many have each verdict.

    The grid of those that change most is then for pages only. ``as_factor`` it says how many times
    as fast configurations are.
    """
    if len(series) <= MOST_ROWS or only or as_factor:
        grid = _Overview(comparison, series, as_factor=as_factor).grid()
        yield from [grid] if grid is not None else []
        return
    yield from _counts(comparison, series)
    chosen = _largest(comparison, series)
    grid = _Overview(comparison, chosen).grid()
    if grid is not None:
        rest = counted(len(series) - len(chosen), "more metric")
        yield Details(f"the {len(chosen)} metrics that change most ({rest})", (grid,))


def shown_series(comparison: Comparison, only: Sequence[str] = ()) -> list[Series]:
    """The series that the overview shows, in their order.

    Unless metrics were asked for by name these are those that decide, and what else gets clearly
    worse. ``only`` are verdicts or their marks, of which one must be in the row.
    """
    effects = [e for e in comparison.effects if not e.control]
    known = {e.series for e in effects}
    marked = {(g.workload, g.metric) for g in comparison.gaps if g.mark != GapMark.NOT_MEASURED}
    worse = {e.series for e in effects if is_clearly_worse(e)}
    asked = {e.series for e in effects if is_asked(e.verdict, only)}
    return [
        s
        for s in comparison.series
        if (comparison.asked or s.role in DECIDING or s in worse)
        and (s in known or (s.workload, s.metric) in marked)
        and (not only or s in asked)
    ]


def is_asked(verdict: Verdict, only: Sequence[str]) -> bool:
    """Whether a verdict is among those named, by its name or its mark."""
    return str(verdict) in only or VERDICT_MARKS[verdict] in only


def _largest(comparison: Comparison, series: Sequence[Series]) -> list[Series]:
    """The metrics that change most, in their order."""
    largest = {
        e.series: abs(e.shift.mean)
        for e in sorted(comparison.effects, key=lambda e: abs(e.shift.mean))
        if e.verdict in CHANGED
    }
    wanted = set(sorted(series, key=lambda s: -largest.get(s, 0.0))[:MOST_ROWS])
    return [s for s in series if s in wanted]


def _counts(comparison: Comparison, series: Sequence[Series]) -> Iterator[Block]:
    """By configuration, a row for every verdict, and how to see them all."""
    wanted = set(series)
    effects = [e for e in comparison.effects if e.series in wanted and not e.control]
    for name in dict.fromkeys(e.configuration for e in effects):
        own = [e for e in effects if e.configuration == name]
        groups = {v: [e for e in own if e.verdict is v] for v in Verdict}
        rows = [
            (GridCell(str(v), verdict=v), str(len(members)), _named(v, members))
            for v, members in groups.items()
            if members
        ]
        heads = (f"{name} against {comparison.baseline}", "metrics", "largest changes")
        yield make_table(heads, rows, right=("metrics",))
    first, *others = dict.fromkeys(VERDICT_MARKS[e.verdict] for e in effects)
    rest = f" (or {', '.join(others)})" if others else ""
    text = f"all of them: ferocal compare --only {first}{rest}; --detail for intervals"
    yield Lines((Line(text),), "note")


def _named(verdict: Verdict, effects: Sequence[Effect]) -> str:
    """The largest changes of a verdict by name, and how many more there are."""
    if verdict is Verdict.EQUIVALENT:
        return f"within {margins_text(effects)}"
    if verdict not in (*CHANGED, Verdict.SEEN_ONCE):
        return ""
    largest = sorted(effects, key=lambda e: (e.scale != "ratio", -abs(e.shift.mean)))
    names = [f"{e.series.title} {change_words(e)}" for e in largest[:_MOST_NAMED]]
    rest = len(effects) - len(names)
    return ", ".join([*names, f"{rest} more"] if rest > 0 else names)


def _is_sure(effect: Effect) -> bool:
    """Whether an effect has an interval around a number, and not only a bound."""
    surely = effect.verdict is not Verdict.SEEN_ONCE and effect.method is not Method.BOUND
    return surely and has_evidence(effect)


class _Overview:
    """The overview of the effects on one bench."""

    def __init__(
        self, comparison: Comparison, series: Sequence[Series], *, as_factor: bool = False
    ) -> None:
        self._comparison = comparison
        self._series = list(series)
        self._bench = comparison.benches[0]
        self._as_factor = as_factor
        self._summaries = {(e.series, e.configuration): e for e in comparison.summaries}
        self._effects = {(e.series, e.configuration): e for e in comparison.effects}
        self._gaps = {(g.workload, g.metric, g.configuration): g for g in comparison.gaps}
        named = {e.configuration for e in comparison.effects if not e.control}
        gaps = {g.configuration for g in comparison.gaps}
        self._names = [
            name
            for name in list(comparison.levels)[1:]
            if name in named or (name in gaps and name != "control")
        ]
        sure = [(e.configuration, evidence_text(e)) for e in self._shown() if _is_sure(e)]
        self._known = Counter(text for _, text in sure)
        self._usual = self._known.most_common(1)[0][0] if sure else None
        texts: dict[str, set[str]] = {}
        for name, text in sure:
            texts.setdefault(name, set()).add(text)
        # What all intervals of a configuration rest on, where that is not what most rest on.
        self._unlike = {
            name: tuple(own)
            for name, own in texts.items()
            if len(own) == 1 and own != {self._usual}
        }

    def grid(self) -> Grid | None:
        """The rows with what their signs mean; nothing where there are none."""
        if not self._series or not self._names:
            return None
        effects = self._shown()
        rows = arrange(
            list(self._with_summaries()),
            lambda s: (self._base(s), {name: self._cell(s, name) for name in self._names}),
            lambda workload: self._notes(workload, None),
        )
        equal = [e for e in effects if e.verdict is Verdict.EQUIVALENT]
        within = margins_text(equal) if equal else ""
        return Grid(
            tuple(rows),
            {name: (*self._head_notes(name), *self._unlike.get(name, ())) for name in self._names},
            Base(self._comparison.baseline, "baseline"),
            meanings((e.verdict for e in effects), within),
            ("times as fast; " if self._as_factor else "") + self._evidence(effects),
        )

    def _shown(self) -> list[Effect]:
        shown = set(self._series)
        return [e for (s, _), e in self._effects.items() if s in shown and not e.control]

    def _with_summaries(self) -> Iterator[Series]:
        """The metrics, each group followed by what it is as one, and in the end all of them."""
        summaries = dict.fromkeys(series for series, _ in self._summaries)
        shown = Counter(s.group for s in self._series)
        last = {s.group: s for s in self._series}
        for series in self._series:
            yield series
            if series is last[series.group] and shown[series.group] > 1 and series.group:
                yield from (s for s in summaries if s.group == series.group)
        if len(self._series) > 1:
            yield from (s for s in summaries if s.group in (ALL, PRIMARY))

    def _summary(self, series: Series, name: str) -> GridCell:
        """A group as one, with the metric that moves most of it."""
        effect = self._summaries.get((series, name))
        if effect is None:
            return GridCell("–")
        notes: tuple[str, ...] = ()
        if effect.mostly is not None and effect.share > _MOSTLY:
            notes = (f"mostly {effect.mostly.title}",)
        cell = self._number(effect, notes)
        return replace(cell, strip=reach_of(effect), place=None)

    def _number(self, effect: Effect, notes: tuple[str, ...]) -> GridCell:
        """A change, or how many times as fast it is, with half the width of its interval."""
        if not self._as_factor or effect.scale != "ratio":
            return change_cell(effect, notes, place_of(effect), effect.method)
        told = GridCell(
            verdict=effect.verdict, notes=notes, place=place_of(effect), method=effect.method
        )
        factor, shift = speed_factor(effect), effect.shift
        half = factor * (shift.high - shift.low) / 2
        if effect.bound is not None or not math.isfinite(half) or half == 0:
            bound = effect.bound or ""
            if effect.series.better == "lower":
                bound = {"<": ">", ">": "<"}.get(bound, "")
            return replace(told, number=bound + significant(factor, 3))
        places = decimals_for(half)
        text, rest = grouped(factor, places), f"±{grouped(half, places)}"
        return replace(told, number=text, rest=rest)

    def _base(self, series: Series) -> GridCell:
        if not series.workload:
            return GridCell("1" if self._as_factor else "–")
        cell = self._reference(series)
        notes = self._notes(series.workload, self._comparison.baseline)
        if cell is None or cell.configuration != self._comparison.baseline:
            gap = self._gap(series, self._comparison.baseline)
            return GridCell(gap.number, notes=(*gap.notes, *notes))
        if cell.bounds:
            notes += (bounds_note(cell),)
        return GridCell(short_centre(cell), notes=notes, place=self._place(cell))

    def _reference(self, series: Series) -> Cell | None:
        """What others are compared with in a row: the baseline, or what stands for it."""
        return self._comparison.base_cells.get((self._bench, series.workload, series.metric))

    def _place(self, cell: Cell) -> Place:
        series = cell.series
        return Place(self._bench, series.workload, series.metric, cell.configuration)

    def _cell(self, series: Series, name: str) -> GridCell:
        if not series.workload:
            return self._summary(series, name)
        effect = self._effects.get((series, name))
        notes = self._notes(series.workload, name)
        if effect is None:
            reference = self._reference(series)
            if reference is not None and reference.configuration == name:
                text = short_centre(reference)
                place = self._place(reference)
                return GridCell(text, notes=(_STANDS_FOR, *notes), place=place)
            gap = self._gap(series, name)
            return GridCell(gap.number, notes=(*gap.notes, *notes))
        if effect.baseline != self._comparison.baseline:
            notes += (f"against {effect.baseline}",)
        if effect.method is Method.STATED:
            notes += (STATED_NOTE,)
        elif name not in self._unlike and self._is_unlike(effect):
            notes += (evidence_text(effect),)
        return replace(self._number(effect, notes), strip=reach_of(effect))

    def _gap(self, series: Series, name: str) -> GridCell:
        """Why a cell has no number, and in a note what is known of that."""
        gap = self._gaps.get((series.workload, series.metric, name))
        if gap is None:
            return GridCell("–")
        return GridCell(str(gap.mark), notes=(gap.reason,) if gap.reason else ())

    def _is_unlike(self, effect: Effect) -> bool:
        """Whether an interval rests on something else than most do."""
        return _is_sure(effect) and evidence_text(effect) != self._usual

    def _head_notes(self, name: str) -> tuple[str, ...]:
        return tuple(
            note.text
            for note in self._comparison.notes
            if note.configuration == name and note.workload is None and note.run is None
        )

    def _notes(self, workload: str, name: str | None) -> tuple[str, ...]:
        """Notes on a workload, under one configuration or under none in particular."""
        return tuple(
            note.text
            for note in self._comparison.notes
            if note.workload == workload and note.configuration == name and note.run is None
        )

    def _evidence(self, effects: Sequence[Effect]) -> str:
        """What most of the intervals rest on, and their level."""
        if self._usual is None:
            return f"{evidence_text(effects[0])}; no intervals" if effects else ""
        shown = set(self._series)
        cells = [
            c
            for (bench, _, _), c in self._comparison.base_cells.items()
            if bench == self._bench and c.series in shown and c.rounds
        ]
        runs = {c.runs / c.rounds for c in cells}
        each = runs.pop() if len(runs) == 1 else 0.0
        of = f" of {counted(int(each), 'run')}" if each and each.is_integer() else ""
        unless = " unless noted" if len(self._known) > 1 else ""
        return f"{self._usual}{of}{unless}; {100 * self._comparison.confidence:.4g} % intervals"
