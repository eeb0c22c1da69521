"""What is drawn of a study, kind by kind: finished numbers, on the axes on which they are drawn."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import Series, margin_on_scale
from ferocal.analysis.factors.results import Judged, Scaling
from ferocal.analysis.inference.claims import ClaimVerdict
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.reach import Reach, ratio_ends, reach_of
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.analysis.rank.standings import Ranking, Standing
from ferocal.answers.chart import make_charts
from ferocal.answers.claims import ClaimsAnswer, examine
from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.factors import FactorsAnswer, attribute
from ferocal.answers.metrics import study_series
from ferocal.answers.rank import RankAnswer, rank
from ferocal.answers.readings import DotsChart, list_dots
from ferocal.answers.selection import Selection
from ferocal.answers.series import SeriesAnswer, follow
from ferocal.answers.traces import compare_traces, find_trace_metrics, with_curves
from ferocal.errors import NothingToShowError, UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.additions import read_claims, read_references
from ferocal.ledger.reading.integrity import Identity, read_identity
from ferocal.ledger.reading.runs import read_runs
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING
from ferocal.traces.kinds import KINDS

if TYPE_CHECKING:
    from ferocal.answers.report import Report


@dataclass(frozen=True)
class Interval:
    """A row: what is judged, of which metric, and how far it reaches."""

    label: str
    series: Series
    judged: Effect | Judged
    reach: Reach

    @property
    def verdict(self) -> Verdict:
        """What can be said of it."""
        return self.judged.verdict


@dataclass(frozen=True)
class IntervalChart:
    """Intervals on one axis of ratios, metric by metric; ``left_out`` have no ratios.

    ``against`` is what all are relative to.
    """

    question: str
    bench: str
    against: str
    confidence: float
    rows: tuple[Interval, ...]
    ends: tuple[float, float]
    left_out: tuple[Series, ...]


@dataclass(frozen=True)
class RankedChart:
    """The contestants of a field by what decides, with intervals of their values.

    ``rows`` are the standings with their values relative to ``against``, as gains.
    """

    question: str
    place: str
    against: str
    answer: RankAnswer
    ranking: Ranking
    rows: tuple[tuple[str, Standing, Reach], ...]
    ends: tuple[float, float]


@dataclass(frozen=True)
class ValueChart:
    """Values with their intervals by configuration, a panel for every metric of a bench.

    ``undrawn`` are not comparable, or were not read of enough configurations.
    """

    question: str
    bench: str
    confidence: float
    panels: tuple[Ranking, ...]
    undrawn: tuple[Series, ...]


@dataclass(frozen=True)
class ScalingChart:
    """How metrics scale with what can be counted, on a bench."""

    question: str
    bench: str
    scaling: tuple[Scaling, ...]


@dataclass(frozen=True)
class _Source:
    """A study opened for drawing, with the comparison of what is wanted."""

    study: Study
    ledger: Ledger
    evidence: Evidence
    against: str | None
    selection: Selection
    comparison: Comparison


@dataclass(frozen=True)
class Drawing:
    """What is drawn of a kind, a figure each, and of what: the comparison of the same metrics.

    ``days`` are the first and the last on which something was read, "" where that is unknown.
    """

    figures: tuple[Any, ...]
    comparison: Comparison
    ledger: Identity
    days: tuple[str, str]

    @property
    def for_slide(self) -> Any:
        """The one figure of a slide; of claims the first one, those that were refuted before."""
        figure = self.figures[0]
        if not isinstance(figure, ClaimsAnswer):
            return figure
        first = sorted(figure.findings, key=lambda f: f.judged.verdict is not ClaimVerdict.REFUTED)
        return replace(figure, findings=tuple(first[:1]))


def chart_data(
    study: Study, kind: str, *, against: str | None = None, selection: Selection | None = None
) -> Drawing:
    """What is drawn of a kind.

    Raises
    ------
    UsageError
        When a name is unknown, or there is nothing of that kind to draw.
    LedgerError
        When the ledger is missing or cannot be read.
    """
    selection = (selection or Selection()).resolve(study)
    with read_ledger(study.directory) as ledger, ledger.snapshot():
        evidence = gather(study, ledger)
        comparison = compare(study, evidence, against=against, selection=selection)
        found = _MAKERS[kind](_Source(study, ledger, evidence, against, selection, comparison))
        times = sorted(visit.started_at for visit in evidence.visits if visit.started_at) or [""]
        days = (times[0][:10], times[-1][:10])
        if not found:
            raise NothingToShowError(f"nothing to draw as {kind}")
        return Drawing(tuple(found), comparison, read_identity(ledger), days)


def effect_rows(comparison: Comparison) -> list[IntervalChart]:
    """Every effect that decides, or that was asked for, on every bench."""
    found = []
    for bench in comparison.benches:
        part = comparison.on_bench(bench)
        effects = [
            e for e in part.effects if not e.control and (part.asked or e.series.role in DECIDING)
        ]
        chart = _rows(
            part.question, bench, part.baseline, part.confidence,
            [(e.configuration, e) for e in effects],
        )  # fmt: skip
        found += [chart] if chart.rows else []
    return found


def factor_rows(answer: FactorsAnswer) -> list[IntervalChart]:
    """What every level does to every metric, on every bench."""
    found = []
    for bench in answer.benches:
        rows = [
            (f"{e.factor}={e.level}", e.judged)
            for e in bench.effects
            if e.judged is not None and not e.is_between
        ]
        chart = _rows(answer.question, bench.bench, answer.baseline, answer.confidence, rows)
        found += [chart] if chart.rows else []
    return found


def _rows(
    question: str,
    bench: str,
    against: str,
    confidence: float,
    estimates: Sequence[tuple[str, Effect | Judged]],
) -> IntervalChart:
    drawn, left = [], dict[Series, None]()
    for label, estimate in estimates:
        reach = reach_of(estimate)
        if reach is None:
            left[estimate.series] = None
        else:
            drawn.append(Interval(label, estimate.series, estimate, reach))
    ends = ratio_ends([row.reach for row in drawn])
    return IntervalChart(question, bench, against, confidence, tuple(drawn), ends, tuple(left))


def ranked_rows(answer: RankAnswer) -> list[RankedChart]:
    """The main ranking of every field, relative to the baseline or to the first."""
    found = []
    for field in answer.fields:
        ranking = field.main
        place = 0 if ranking.against is None else ranking.against
        base = ranking.standings[place].value
        if not base > 0:
            continue
        sign = -1.0 if ranking.series.better == "lower" else 1.0
        margin = margin_on_scale(ranking.series, "ratio")
        rows = tuple(
            (ranking.label(n, answer.across), s, _relative(s, base, sign, margin))
            for n, s in enumerate(ranking.standings)
        )
        against = ranking.label(place, answer.across)
        ends = ratio_ends([reach for _, _, reach in rows])
        found.append(
            RankedChart(answer.question, field.place, against, answer, ranking, rows, ends)
        )
    return found


def _relative(standing: Standing, base: float, sign: float, margin: float) -> Reach:
    ends = [
        sign * math.log(value / base) if value > 0 else math.nan
        for value in (standing.low, standing.value, standing.high)
    ]
    low, mean, high = ends if sign > 0 else ends[::-1]
    return Reach(low, mean, high, margin)


def _values(source: _Source) -> list[ValueChart]:
    answer = rank(source.study, source.evidence, selection=source.selection)
    return [
        ValueChart(answer.question, field.place, answer.confidence, field.rankings, field.absent)
        for field in answer.fields
        if field.rankings
    ]


def _dots(source: _Source) -> list[DotsChart]:
    """The readings of metrics that decide, or of those that were asked for."""
    wanted, readings = source.selection, source.evidence.readings
    series = [
        s
        for s in readings.series
        if (wanted.places is None and s.role in DECIDING)
        or (wanted.places is not None and (s.workload, s.metric) in wanted.places)
    ]
    runs = [
        run
        for run in read_runs(source.ledger)
        if not run.warmup and wanted.includes(run.bench, run.configuration)
    ]
    dots = [d for d in list_dots(source.study, series, runs) if d.dots]
    question = source.study.head.question
    benches = dict.fromkeys(d.bench for d in dots)
    return [DotsChart(question, b, tuple(d for d in dots if d.bench == b)) for b in benches]


def _traces(kind: str) -> Callable[[_Source], Sequence[Any]]:
    def make(source: _Source) -> Sequence[Any]:
        study, evidence, wanted = source.study, source.evidence, source.selection
        answer = compare_traces(study, evidence, kind, against=source.against, selection=wanted)
        return with_curves(answer, study, source.ledger, evidence, wanted).curves

    return make


def _series(source: _Source) -> list[SeriesAnswer]:
    factor = source.study.ordered_factor
    if factor is None:
        raise UsageError("no factor of this study has an `order`, so its levels are no series")
    return [follow(source.study, source.evidence, factor, selection=source.selection)]


def _attributed(source: _Source) -> FactorsAnswer:
    return attribute(
        source.study, source.evidence, start=source.against, selection=source.selection, parts=False
    )


def _scaling(source: _Source) -> list[ScalingChart]:
    answer = _attributed(source)
    found = [
        ScalingChart(answer.question, bench.bench, bench.scaling)
        for bench in answer.benches
        if bench.scaling
    ]
    if not found:
        raise NothingToShowError("nothing to draw: no factor's levels have a `quantity`")
    return found


def _claims(source: _Source) -> list[ClaimsAnswer]:
    if not source.study.file.claim:
        raise NothingToShowError("nothing to draw: study.toml has no claims")
    return [examine(source.study, source.evidence, read_claims(source.ledger))]


def charts_of_report(report: Report) -> dict[str, tuple[Any, ...]]:
    """The main figures of what a report says, by kind."""
    return {
        "overview": report.charts,
        "effects": tuple(effect_rows(report.comparison)),
        "series": () if report.series is None else (report.series,),
        "ranking": () if report.ranking is None else tuple(ranked_rows(report.ranking)),
        "claims": () if report.claims is None else (report.claims,),
    }


# Of these kinds a figure can show a single metric.
_OF_METRICS = (
    "overview", "effects", "bars", "readings", "distributions", "factors", "scaling", "series",
)  # fmt: skip


def of_one_metric(study: Study, kind: str, selection: Selection) -> Selection:
    """What a figure of one metric shows: what is named, else the first metric that decides."""
    if kind in KINDS:
        trace = find_trace_metrics(study, kind, selection.workloads)[0]
        return replace(selection, workloads=(trace.workload,), metrics=(trace.name,))
    named = selection.metrics or selection.workloads or selection.groups or selection.roles
    if kind not in _OF_METRICS or named:
        return selection
    ordered = sorted(study_series(study), key=lambda s: (*DECIDING, s.role).index(s.role))
    first = ordered[0]
    return replace(selection, workloads=(first.workload,), metrics=(first.metric,))


_MAKERS: Mapping[str, Callable[[_Source], Sequence[Any]]] = {
    "overview": lambda s: make_charts(
        s.study, s.evidence, read_references(s.ledger), against=s.against, selection=s.selection
    ),
    "effects": lambda s: effect_rows(s.comparison),
    "bars": _values,
    "readings": _dots,
    "distributions": _dots,
    "frames": _traces("frames"),
    "soak": _traces("soak"),
    "factors": lambda s: factor_rows(_attributed(s)),
    "scaling": _scaling,
    "series": _series,
    "ranking": lambda s: ranked_rows(rank(s.study, s.evidence, selection=s.selection)),
    "claims": _claims,
}
# The kinds of charts.
CHARTS = tuple(_MAKERS)
