"""Words on figures: titles, numbers beside rows, what is not drawn, alternative texts."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import factor_of
from ferocal.answers.answer import Doubts
from ferocal.documents.answer import answer_lines
from ferocal.documents.blocks import Chart, Document, caveats
from ferocal.documents.chart import chart_caveats
from ferocal.documents.claims import as_people_read, headline
from ferocal.documents.numbers import change_with_half
from ferocal.documents.rank import answer_sentences, percent_of, value_text
from ferocal.documents.remarks import doubt_lines
from ferocal.documents.series import step_lines
from ferocal.documents.wording import evidence_text
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import significant
from ferocal.terms.wording import listed, shortened

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.rank.standings import Standing
    from ferocal.answers.chart import ChartCell, ChartRow, RatioChart
    from ferocal.answers.charts import Drawing
    from ferocal.answers.claims import ClaimFinding
    from ferocal.answers.readings import RunDots

_LONGEST = 150


@dataclass(frozen=True)
class ChartKind:
    """A kind of chart: what it shows, in a line of help, and the alternative text of a figure."""

    name: str
    shows: str
    alternative: Callable[[Any], str]
    names: Callable[[Any], tuple[str, ...]] = lambda data: (data.bench,)


def standing_text(standing: Standing) -> str:
    """A value, and the chance of being first where it is known."""
    known = not math.isnan(standing.chance)
    chance = f"   first: {percent_of(standing.chance)}" if known else ""
    return f"{value_text(standing)}{chance}"


def not_drawn_text(
    no_room: Sequence[Series], no_ratios: Sequence[Series], unknown: Sequence[Series] = ()
) -> list[str]:
    """A line for the metrics without room, for those without ratios, and for those not compared."""
    parts = {
        "not drawn, smaller changes": no_room,
        "not drawn, no ratios": no_ratios,
        "not drawn, not comparable or not measured everywhere": unknown,
    }
    names = {why: listed([series.title for series in of]) for why, of in parts.items() if of}
    return [f"{why}: {shortened(text, _LONGEST)}" for why, text in names.items()]


def best_text(row: ChartRow, chart: RatioChart, called: Callable[[str], str] = str) -> str:
    """Who is best in a row; how many are statistically tied with it, where that is known.

    Configurations are ``called`` what fits.
    """
    first = next((name for name, cell in row.cells.items() if cell.leads), None)
    if first is None:
        return ""
    cell = row.cells[first]
    name = called(first)
    text = name if first == row.reference else f"{name} {gain_text(cell.gain)}"
    tied = sum(row.cells[name].best for name in chart.configurations if name in row.cells) - 1
    if not row.best_known:
        return f"{text}, as read"
    return f"{text} and {tied} tied" if tied > 0 else text


def bound_sign(cell: ChartCell, row: ChartRow) -> str:
    """What stands before a gain that is only a bound, turned as the gain is."""
    if cell.cell.bound is None:
        return ""
    return ">" if (cell.cell.bound == ">") == (row.series.better == "higher") else "<"


def gain_text(gain: float) -> str:
    """A gain as how much better, such as "+15.7 %", or as a factor where it is large."""
    factor = factor_of(gain)
    if factor >= 2 or factor <= 0.5:
        return f"×{significant(factor, 3)}"
    return f"{100 * (factor - 1):+.1f} %".replace("-", "−")


def dots_title(dots: RunDots) -> str:
    """The title of the readings of a metric."""
    unit = f", {dots.series.unit}" if dots.series.unit else ""
    return f"{dots.series.title}{unit}"


def claim_unit(finding: ClaimFinding) -> str:
    """In what a claim and what was found are drawn."""
    if finding.judged.scale == "ratio":
        return "change, %" if finding.kind == "change" else "ratio"
    return finding.series.unit


def claim_numbers(
    finding: ClaimFinding,
) -> tuple[tuple[float, float], tuple[float, float, float]]:
    """The ends of a claim, and low, mean and high of what was found, as they are read."""
    judged = finding.judged
    low, high = (as_people_read(finding, x) if math.isfinite(x) else x for x in judged.ends)
    found = [as_people_read(finding, x) for x in (judged.low, judged.mean, judged.high)]
    return (low, high), (found[0], found[1], found[2])


def _effects_words(data: Any) -> str:
    parts = [
        f"{row.series.title} with {row.label} {change_with_half(row.judged)} ({row.verdict})"
        for row in data.rows[:4]
    ]
    rest = f", and {len(data.rows) - 4} more" if len(data.rows) > 4 else ""
    return f"changes against {data.against} on {data.bench}: {', '.join(parts)}{rest}"


def _panels_words(what: str) -> Callable[[Any], str]:
    return lambda data: (
        f"{what} on {data.bench}: {shortened(listed([p.series.title for p in data.panels]), 120)}"
    )


def _trace_words(what: str) -> Callable[[Any], str]:
    def words(data: Any) -> str:
        names = listed([curve.configuration for curve in data.curves])
        return f"{what} of {data.metric.workload} {data.metric.name} on {data.bench}: {names}"

    return words


def _trace_names(data: Any) -> tuple[str, ...]:
    return (data.metric.workload, data.metric.name, data.bench)


# Every kind of chart, in the order in which help lists them.
CHART_KINDS: dict[str, ChartKind] = {
    kind.name: kind
    for kind in (
        ChartKind(
            "overview",
            "all metrics under all configurations, on one axis of ratios",
            lambda d: f"all metrics against {d.baseline} on {d.bench}, better to the right",
        ),
        ChartKind("effects", "every change with its interval and number", _effects_words),
        ChartKind("bars", "values with intervals, as bars from zero", _panels_words("values")),
        ChartKind(
            "readings", "every run in order of time, a condition beneath", _panels_words("runs")
        ),
        ChartKind(
            "distributions", "every run a dot, by configuration", _panels_words("distributions")
        ),
        ChartKind("frames", "frame times: tail and course", _trace_words("frames"), _trace_names),
        ChartKind("soak", "soaks over time", _trace_words("course"), _trace_names),
        ChartKind("factors", "what every level does", _effects_words),
        ChartKind(
            "scaling",
            "speed against the amount of a resource",
            lambda d: f"scaling on {d.bench}: {listed([s.series.title for s in d.scaling])}",
        ),
        ChartKind(
            "series", "every release", lambda d: f"every release of {d.factor}", lambda d: ()
        ),
        ChartKind(
            "ranking",
            "ranks with intervals",
            lambda d: f"ranking on {d.place}: {listed([name for name, _, _ in d.rows])}",
            lambda d: (d.place,),
        ),
        ChartKind("claims", "claims beside what was found", headline, lambda d: ()),
    )
}


def chart_blocks(kind: str, data: Sequence[Any]) -> list[Chart]:
    """The charts of a kind, with what is on them in words."""
    known = CHART_KINDS[kind]
    return [Chart(kind, one, known.alternative(one), known.names(one)) for one in data]


def caveats_document(kind: str, drawing: Drawing) -> Document:
    """What limits what a figure shows, for the terminal."""
    if kind == "overview":
        return Document("", tuple(chart_caveats(drawing.figures)))
    comparison = drawing.comparison
    effects = tuple(effect for effect in comparison.effects if not effect.control)
    return Document("", tuple(caveats(doubt_lines(Doubts(effects, comparison.levels)))))


def slide_source(drawing: Drawing) -> str:
    """From what a slide was made: the ledger, when it was measured, what intervals rest on."""
    known = Counter(evidence_text(e) for e in drawing.comparison.effects if not e.control)
    days = list(dict.fromkeys(filter(None, drawing.days)))
    parts = [f"Ferocal, {drawing.ledger}", " to ".join(days), *(x for x, _ in known.most_common(1))]
    return " · ".join(filter(None, parts))


def slide_title(kind: str, drawing: Drawing) -> str:
    """The answer that a slide shows, as its title."""
    data, comparison = drawing.for_slide, drawing.comparison
    if kind == "series":
        head, text = next(iter(step_lines(data, data.values[0].bench)), ("", ""))
        return f"{head}: {text}" if head else text
    if kind == "ranking":
        field = next(f for f in data.answer.fields if f.place == data.place)
        said = list(answer_sentences(field, data.answer))
        return next((text for text in said if not text.startswith("Ranked by")), said[0])
    if kind == "claims":
        finding = data.findings[0]
        return f'{str(finding.judged.verdict).capitalize()}: "{finding.claim.says}"'
    line = answer_lines(comparison.on_bench(comparison.benches[0]))[0]
    text = line.shorter[-1] if line.shorter else line.text
    return f"{line.head} {text}".strip()
