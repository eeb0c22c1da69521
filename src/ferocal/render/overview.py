"""The overview: metrics in rows, configurations in columns, a sign for every verdict."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.data.gaps import GapMark
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import has_evidence
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.render.answer import is_clearly_worse
from ferocal.render.console import Text
from ferocal.render.grid import (
    Base,
    Footnotes,
    GridCell,
    GridRow,
    Shape,
    arrange,
    lay_out,
    mixes_roles,
)
from ferocal.render.numbers import change_and_half
from ferocal.render.tables import bounds_note, short_centre
from ferocal.render.wording import (
    VERDICT_SIGNS,
    VERDICT_STYLES,
    VERDICT_WORDS,
    evidence_text,
    margins_text,
)
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.comparison import Comparison


def shown_series(comparison: Comparison, only: Sequence[str] = ()) -> list[Series]:
    """The series that the overview shows, in their order.

    Unless metrics were asked for by name these are those that decide, and what else gets clearly
    worse. ``only`` are words of verdicts, of which one must be in the row.
    """
    effects = [e for e in comparison.effects if not e.control]
    known = {e.series for e in effects}
    marked = {(g.workload, g.metric) for g in comparison.gaps if g.mark != GapMark.NOT_MEASURED}
    worse = {e.series for e in effects if is_clearly_worse(e)}
    verdicts: dict[Series, set[str]] = {}
    for e in effects:
        verdicts.setdefault(e.series, set()).add(VERDICT_WORDS[e.verdict])
    return [
        s
        for s in comparison.series
        if (comparison.asked or s.role in DECIDING or s in worse)
        and (s in known or (s.workload, s.metric) in marked)
        and (not only or verdicts.get(s, set()) & set(only))
    ]


class Overview:
    """The overview of the effects on one bench."""

    def __init__(self, comparison: Comparison, series: Sequence[Series], shape: Shape) -> None:
        self._comparison = comparison
        self._series = list(series)
        self._shape = shape
        self._bench = comparison.benches[0]
        self._effects = {(e.series, e.configuration): e for e in comparison.effects}
        self._gaps = {(g.workload, g.metric, g.configuration): g for g in comparison.gaps}
        self._notes = Footnotes(words=shape.words)
        named = {e.configuration for e in comparison.effects if not e.control}
        gaps = {g.configuration for g in comparison.gaps}
        self._names = [
            name
            for name in list(comparison.levels)[1:]
            if name in named or (name in gaps and name != "control")
        ]
        self._some_primary = mixes_roles(self._series)

    @property
    def names(self) -> list[str]:
        """The configurations in the columns."""
        return list(self._names)

    @property
    def footnotes(self) -> list[str]:
        """The notes to which the rows refer, once these have been made."""
        return self._notes.lines

    def effect(self, series: Series, name: str) -> Effect | None:
        """The effect in a cell, if there is one."""
        return self._effects.get((series, name))

    def rows(self) -> list[GridRow]:
        """The rows, with headings for groups and workloads between them."""
        return list(
            arrange(
                self._series,
                self._shape,
                lambda s: (self._base(s), {name: self._cell(s, name) for name in self._names}),
                lambda workload: self._note_marks(workload, None),
            )
        )

    def lines(self) -> list[Text]:
        """The table, its legend and its footnotes, line by line."""
        if not self._series or not self._names:
            return []
        rows = self.rows()
        heads = {name: name + self._head_mark(name) for name in self._names}
        base = Base(self._comparison.baseline, "baseline")
        return [
            *lay_out(rows, heads, self._shape, base),
            *(Text(line, "dim") for line in self._legend_lines()),
            *(Text(line, "dim") for line in self._notes.lines),
        ]

    def _base(self, series: Series) -> str:
        cell = self._comparison.base_cells.get((self._bench, series.workload, series.metric))
        base = self._comparison.baseline
        marks = self._note_marks(series.workload, base)
        if cell is not None and cell.bounds:
            marks += self._notes.mark(bounds_note(cell))
        if cell is not None:
            return short_centre(cell) + marks
        return self._gap(series, base) + marks

    def _cell(self, series: Series, name: str) -> GridCell:
        effect = self._effects.get((series, name))
        marks = self._note_marks(series.workload, name)
        if effect is None:
            return GridCell(number=self._gap(series, name), mark=marks)
        style = VERDICT_STYLES[effect.verdict]
        signs = VERDICT_WORDS if self._shape.words else VERDICT_SIGNS
        sign = "" if effect.verdict is Verdict.NOT_JUDGED else signs[effect.verdict]
        change, half = change_and_half(effect)
        if effect.method is Method.STATED:
            marks += self._notes.mark("the interval rests on a noise that somebody states")
        return GridCell(change, half, sign, marks, style)

    def _gap(self, series: Series, name: str) -> str:
        """Why a cell has no number, and with a mark what is known of that."""
        gap = self._gaps.get((series.workload, series.metric, name))
        if gap is None:
            return "–"
        return str(gap.mark) + (self._notes.mark(gap.reason) if gap.reason else "")

    def _head_mark(self, name: str) -> str:
        return "".join(
            self._notes.mark(note.text)
            for note in self._comparison.notes
            if note.configuration == name and note.workload is None and note.run is None
        )

    def _note_marks(self, workload: str, name: str | None) -> str:
        """The marks of notes on a workload, under one configuration or whatever that is."""
        return "".join(
            self._notes.mark(note.text)
            for note in self._comparison.notes
            if note.workload == workload and note.configuration == name and note.run is None
        )

    def legend(self) -> tuple[list[str], str]:
        """What the signs mean, and what most of the intervals rest on."""
        effects = [e for (s, _), e in self._effects.items() if s in self._series and not e.control]
        present = {e.verdict for e in effects}
        parts = []
        for verdict, sign in VERDICT_SIGNS.items():
            if verdict in present and sign.strip():
                word = VERDICT_WORDS[verdict]
                if verdict is Verdict.EQUIVALENT:
                    own = [e for e in effects if e.verdict is verdict]
                    word = f"{'equal: ' if self._shape.words else ''}within {margins_text(own)}"
                parts.append(word if self._shape.words else f"{sign} {word}")
        if self._some_primary:
            parts.append(f"{self._shape.primary} primary")
        return parts, self._evidence(effects)

    def _legend_lines(self) -> list[str]:
        parts, right = self.legend()
        left = ", ".join(parts) if self._shape.words else "  ".join(parts)
        gap = self._shape.width - len(left) - len(right)
        if left and gap >= 2:
            return [left + " " * min(gap, 8) + right]
        return [line for line in (left, right) if line]

    def _evidence(self, effects: Sequence[Effect]) -> str:
        """What most of the intervals rest on, and their level."""
        sure = [e for e in effects if has_evidence(e) and e.verdict is not Verdict.SEEN_ONCE]
        known = Counter(evidence_text(e) for e in sure or effects)
        if not known:
            return ""
        text, _ = known.most_common(1)[0]
        if not sure:
            return f"{text}; no intervals"
        cells = [
            c
            for (bench, _, _), c in self._comparison.base_cells.items()
            if bench == self._bench and c.series in self._series and c.rounds
        ]
        runs = {c.runs / c.rounds for c in cells}
        each = runs.pop() if len(runs) == 1 else 0.0
        of = f" of {counted(int(each), 'run')}" if each and each.is_integer() else ""
        level = f"intervals {100 * self._comparison.confidence:.4g} %"
        return f"{'mostly ' if len(known) > 1 else ''}{text}{of}; {level}"
