"""The overview chart: every metric under every configuration on one axis of ratios."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ferocal.analysis.data.cells import Cell, tabulate
from ferocal.analysis.data.series import Series, margin_on_scale
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.answers.answer import Doubts
from ferocal.answers.best import Best, find_best
from ferocal.answers.compare import Comparison, compare, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.errors import NothingToShowError
from ferocal.ledger.records import Reference
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING


@dataclass(frozen=True)
class ChartCell:
    """A configuration in a row: what was read, and the change turned so that more is better.

    ``gain``, ``low`` and ``high`` are logarithms of ratios to the baseline, NaN where unknown.
    ``best`` says that nothing is shown to be better.
    """

    cell: Cell
    gain: float
    low: float
    high: float
    best: bool
    leads: bool


@dataclass(frozen=True)
class Elsewhere:
    """A reference in a row: whose it is, its value, and its gain turned like the others."""

    device: str
    value: float
    gain: float


@dataclass(frozen=True)
class ChartRow:
    """A metric with its cells by configuration; ``margin`` is that on the axis of ratios.

    ``reference`` is the configuration to which the others are relative: the baseline, or what
    stands for it where nothing was read of that. ``references`` are results from elsewhere. Where
    the noise is not ``best_known``, who leads is as read, and no ties are known.
    """

    series: Series
    reference: str
    margin: float
    cells: Mapping[str, ChartCell]
    references: tuple[Elsewhere, ...]
    best_known: bool = True

    @property
    def largest(self) -> float:
        """The largest gain of a configuration."""
        return max((c.gain for c in self.cells.values() if not math.isnan(c.gain)), default=0.0)


@dataclass(frozen=True)
class RatioChart:
    """The rows of one bench, in the order of the study; ``left_out`` have no ratios.

    ``doubts`` are the comparisons that are drawn.
    """

    question: str
    bench: str
    baseline: str
    configurations: tuple[str, ...]
    confidence: float
    rows: tuple[ChartRow, ...]
    doubts: Doubts
    left_out: tuple[Series, ...]

    @property
    def drawn(self) -> list[ChartRow]:
        """The rows that have anything to draw besides the baseline."""
        return [row for row in self.rows if row.references or self._has_gains(row)]

    @property
    def undrawn(self) -> list[Series]:
        """The metrics of rows in which no change is known."""
        return [row.series for row in self.rows if row not in self.drawn]

    def _has_gains(self, row: ChartRow) -> bool:
        others = (cell for name, cell in row.cells.items() if name != row.reference)
        return any(math.isfinite(cell.gain) for cell in others)


def make_charts(
    study: Study,
    evidence: Evidence,
    references: Sequence[Reference] = (),
    *,
    against: str | None = None,
    selection: Selection | None = None,
) -> tuple[RatioChart, ...]:
    """A chart for every bench that was measured.

    Raises
    ------
    UsageError
        When a name is unknown, or nothing was measured.
    """
    selection = (selection or Selection()).resolve(study)
    comparison = compare(study, evidence, against=against, selection=selection)
    maker = _Maker(study, evidence, references, comparison, selection)
    measured = set(np.unique(evidence.readings.bench_of).tolist())
    charts = [
        maker.chart(bench)
        for n, bench in enumerate(evidence.readings.benches)
        if n in measured and (not selection.benches or bench in selection.benches)
    ]
    if not any(chart.rows for chart in charts):
        raise NothingToShowError("nothing to draw: no primary or secondary metric has ratios")
    return tuple(chart for chart in charts if chart.rows)


class _Maker:
    def __init__(
        self,
        study: Study,
        evidence: Evidence,
        references: Sequence[Reference],
        comparison: Comparison,
        selection: Selection,
    ) -> None:
        self.evidence, self.references = evidence, references
        self.comparison, self.selection = comparison, selection
        self.readings = evidence.readings
        self.setting = setting_of(study, evidence, comparison.baseline)
        found_effects = estimate_effects(self.readings, comparison.baseline, self.setting)
        self.effects = [effect for effect in found_effects if not effect.control]
        tables = [tabulate(evidence.readings, n) for n in range(len(evidence.readings.benches))]
        found = (c for table in tables for row in table for c in row if c is not None)
        self.cells = {(c.bench, c.configuration, c.series): c for c in found}
        self.barred = {
            (e.bench, e.series, e.configuration)
            for e in comparison.effects
            if e.verdict is Verdict.NOT_COMPARABLE
        }

    def chart(self, bench: str) -> RatioChart:
        """The chart of one bench."""
        comparison = self.comparison.on_bench(bench)
        base = comparison.baseline
        wanted = self.selection.configurations
        names = [
            name
            for name in comparison.levels
            if name != CONTROL and (not wanted or name in wanted or name == base)
        ]
        effects = {(e.series, e.configuration): e for e in self.effects if e.bench == bench}
        series = [
            s
            for s in comparison.series
            if (comparison.asked or s.role in DECIDING)
            and s.better != "none"
            and any((bench, name, s) in self.cells for name in (base, *names))
        ]
        ratios = [s for s in series if self._is_ratio(s, effects)]
        rows = [self._row(bench, s, names, effects) for s in ratios]
        present = {name for row in rows for name in row.cells}
        return RatioChart(
            question=comparison.question,
            bench=bench,
            baseline=base,
            configurations=tuple(name for name in names if name in present),
            confidence=comparison.confidence,
            rows=tuple(rows),
            doubts=Doubts(
                tuple(e for e in comparison.effects if e.series in ratios and not e.control),
                comparison.levels,
            ),
            left_out=tuple(s for s in series if s not in ratios),
        )

    def _is_ratio(self, series: Series, effects: Mapping[tuple[Series, str], Effect]) -> bool:
        own = [e for (s, _), e in effects.items() if s == series]
        return bool(own) and all(e.scale == "ratio" for e in own)

    def _row(
        self,
        bench: str,
        series: Series,
        names: Sequence[str],
        effects: Mapping[tuple[Series, str], Effect],
    ) -> ChartRow:
        found = self._best(bench, series, names)
        best, first = (set(), "") if found is None else ({*found.tied}, found.leader)
        sign = -1.0 if series.better == "lower" else 1.0
        of_row = (e.baseline for (s, _), e in effects.items() if s == series)
        reference = next(of_row, self.comparison.baseline)
        cells = {}
        for name in names:
            cell = self.cells.get((bench, name, series))
            if cell is None:
                continue
            ends = [0.0, 0.0, 0.0]
            if name != reference:
                effect = effects.get((series, name))
                if effect is None:
                    continue
                shift = effect.shift
                if (bench, series, name) in self.barred:
                    cells[name] = ChartCell(cell, math.nan, math.nan, math.nan, False, False)
                    continue
                ends = [sign * x for x in (shift.mean, shift.low, shift.high)]
            low, high = sorted(ends[1:]) if not math.isnan(ends[1]) else (math.nan, math.nan)
            cells[name] = ChartCell(cell, ends[0], low, high, name in best, name == first)
        base = self.cells[bench, reference, series].centre
        return ChartRow(
            series,
            reference,
            margin_on_scale(series, "ratio"),
            cells,
            tuple(self._from_elsewhere(series, base)),
            best_known=found is not None and found.known,
        )

    def _best(self, bench: str, series: Series, names: Sequence[str]) -> Best | None:
        """The one with the best value, and those that nothing is shown to be better than."""
        names = [name for name in names if (bench, series, name) not in self.barred]
        return find_best(self.readings, self.setting, bench, series, names)

    def _from_elsewhere(self, series: Series, base: float) -> list[Elsewhere]:
        sign = -1.0 if series.better == "lower" else 1.0
        return [
            Elsewhere(r.device, r.value, sign * math.log(r.value / base))
            for r in self.references
            if (r.workload, r.metric) == (series.workload, series.metric)
            and r.value > 0
            and r.bound is None
        ]
