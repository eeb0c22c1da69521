"""The methods of a report in plain words with their sources, those that were used."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from ferocal.analysis.inference.contrasts import Method
from ferocal.documents.blocks import Block, GridCell, make_table, method_anchor
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.answers.report import Report


@dataclass(frozen=True)
class MethodText:
    """A method: what it is called, what it does, from where it is, and whether a report used it."""

    name: str
    words: str
    source: str
    used: Callable[[Report], bool]


def methods_blocks(report: Report) -> Iterator[Block]:
    """A row for every method that was used, to which verdicts lead."""
    effects = report.comparison.effects
    counts = Counter(str(effect.method) for effect in effects)
    rows = [
        [
            GridCell(known.name, strong=True, anchor=method_anchor(known.name)),
            GridCell(f"{counts[known.name]} of {len(effects)}" if counts[known.name] else ""),
            GridCell(known.words),
            GridCell(known.source),
        ]
        for known in METHODS
        if known.used(report)
    ]
    if rows:
        yield make_table(("method", "effects", "what it does", "source"), rows)


def _judged_by(method: Method) -> Callable[[Report], bool]:
    return lambda report: method in used_methods(report)


def used_methods(report: Report) -> set[Method]:
    """What the intervals of all answers of a report are based on."""
    used = {effect.method for effect in report.comparison.effects}
    for bench in report.factors.benches if report.factors else ():
        used |= {e.judged.method for e in bench.effects if e.judged is not None}
        used |= {interaction.judged.method for interaction in bench.interactions}
    for value in report.series.values if report.series else ():
        used |= {e.method for e in value.comparisons if e is not None}
    for lead in report.across.leads if report.across else ():
        used.add(lead.estimate.method)
    for field in report.ranking.fields if report.ranking else ():
        used |= {m for ranking in field.rankings for m in ranking.sources}
    for answer in report.traces:
        used |= {effect.method for effect in answer.comparison.effects}
    return used


def _has_ratios(report: Report) -> bool:
    return any(effect.scale == "ratio" for effect in report.comparison.effects)


def _is_adjusted(report: Report) -> bool:
    return not all(math.isnan(effect.p_adjusted) for effect in report.comparison.effects)


def _has_trace(kind: str) -> Callable[[Report], bool]:
    return lambda report: any(answer.kind.name == kind for answer in report.traces)


METHODS = (
    MethodText(
        Method.PAIRED,
        "A round visits every configuration once. A change is the mean of the differences within "
        "rounds, so what disturbs a whole round cancels. Where visits are missing, least squares "
        "over configurations and rounds, with errors that are robust by round.",
        "Student 1908; Yates 1934; Bell and McCaffrey 2002",
        _judged_by(Method.PAIRED),
    ),
    MethodText(
        Method.VISITS,
        "Visits do not pair in rounds. A change is the difference of the means of the visits, and "
        "each side has its own variance.",
        "Welch 1947",
        _judged_by(Method.VISITS),
    ),
    MethodText(
        Method.FLOOR,
        "A side was visited too rarely to show its noise. How much visits vary comes from other "
        "visits to one and the same configuration: the noise floor.",
        "Satterthwaite 1946",
        _judged_by(Method.FLOOR),
    ),
    MethodText(
        Method.STATED,
        "No visits show the noise between them. The interval is 1.96 times the noise that the "
        "analyst states, and only as good as that statement.",
        "JCGM 100:2008, 4.3",
        _judged_by(Method.STATED),
    ),
    MethodText(
        Method.MODEL,
        "No visit was repeated. What the effects of the factors leave unexplained is the error.",
        "Searle 1971",
        _judged_by(Method.MODEL),
    ),
    MethodText(
        Method.BOUND,
        "A side is known only as a bound, such as >3600 s. All that it allows is compared with the "
        "interval of the other side.",
        "JCGM 100:2008, 4.3.7",
        _judged_by(Method.BOUND),
    ),
    MethodText(
        Method.NONE,
        "The noise between visits is unknown: the change has neither interval nor verdict.",
        "–",
        _judged_by(Method.NONE),
    ),
    MethodText(
        "summary of a visit",
        "Runs of one visit share its boot and temperature, so a visit counts once: the median of "
        "its runs, or the mean of two.",
        "Cochran 1977, 10.6",
        lambda r: bool(r.comparison.effects),
    ),
    MethodText(
        "ratios",
        "Positive readings are compared as ratios, on the scale of logarithms: twice as much and "
        "half as much are equally far from no change.",
        "–",
        _has_ratios,
    ),
    MethodText(
        "verdict",
        "Equivalent: the interval lies inside the margin. Better or worse: not equivalent, and "
        "chance alone would show such a change in at most 5 % of studies. Else inconclusive.",
        "Schuirmann 1987",
        _is_adjusted,
    ),
    MethodText(
        "adjustment for the number of comparisons",
        "The metrics of one role are a family, in which one false alarm in twenty studies is "
        "allowed, however many comparisons it has.",
        "Holm 1979",
        _is_adjusted,
    ),
    MethodText(
        "sequential looks",
        "Looked at after fixed rounds only, each at a stricter level, so that stopping early finds "
        "no more false changes.",
        "Pocock 1977",
        lambda r: r.procedure.looks is not None,
    ),
    MethodText(
        "attribution to factors",
        "The effect of a level is its average over the levels of the other factors. Interactions "
        "are ratios of ratios. What always changed together is not told apart.",
        "Searle 1971; Shapley 1953",
        lambda r: r.factors is not None,
    ),
    MethodText(
        "scaling",
        "Speed against the amount of a resource, and the share that does not get faster with more.",
        "Amdahl 1967",
        lambda r: any(bench.scaling for bench in r.factors.benches) if r.factors else False,
    ),
    MethodText(
        "steps and creeps",
        "A release is said to change the scores where the change stands out from what the same "
        "visits in other orders, and noise of other shapes, would show.",
        "Olshen and others 2004; Westfall and Young 1993; Zhang and Siegmund 2007",
        lambda r: r.series is not None,
    ),
    MethodText(
        "ranks",
        "All pairs are compared as one family. Those that are not shown to differ share a rank.",
        "Holm 1979; Gelman 2006",
        lambda r: r.ranking is not None,
    ),
    MethodText(
        "index",
        "The geometric mean of the metrics that decide, each turned so that more is better, "
        "computed visit by visit.",
        "–",
        lambda r: bool(r.comparison.summaries) or r.ranking is not None,
    ),
    MethodText(
        "published results",
        "A result from elsewhere has no runs: it is shown beside the readings, and no verdict "
        "uses it.",
        "–",
        lambda r: r.references is not None,
    ),
    MethodText(
        "claims",
        "Supported: shown to lie within its bounds. Refuted: shown to lie beyond one. All claims "
        "are one family.",
        "Schuirmann 1987; Holm 1979",
        lambda r: r.claims is not None,
    ),
    MethodText(
        "frame times",
        "Rates are frames over time. A low is the rate over the slowest frames; its noise is that "
        "between runs, not between frames.",
        "–",
        _has_trace("frames"),
    ),
    MethodText(
        "falls and rises of a soak",
        "Moving sums over medians of ten seconds find where the level changes, from 7 % and five "
        "standard errors on.",
        "Hušková and Slabý 2001; Eichinger and Kirch 2018",
        _has_trace("soak"),
    ),
)
