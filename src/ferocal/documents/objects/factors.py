"""What ``ferocal factors --json`` prints."""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from ferocal.documents.factor_lines import inseparable_text, interaction_sentence, part_line
from ferocal.documents.objects.base import Object, Placed, Text, key, of_item, or_none
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    DOUBTS,
    EXCLUDED,
    LEFT_OUT,
    RemarkObject,
)

if TYPE_CHECKING:
    from ferocal.analysis.factors.results import IndexPart, ScalingStep
    from ferocal.answers.factors import FactorsAnswer


class OfMetric(Object):
    """What is known of a metric, or of an index, on a bench."""

    bench: str = key("where")
    workload: Text = key("what was run; null: an index over all workloads", "item.series.workload")
    metric: str = key("what was read", "item.series.metric")
    unit: str = key("its unit", "item.series.unit")
    better: str = key("`higher` or `lower`", "item.series.better")


class Judgement(OfMetric):
    """A change as it was judged; all null where nothing is known."""

    scale: str | None = key(
        "`ratio`: changes are shares; `difference`: in the unit", or_none("item.judged.scale")
    )
    change: float | None = key("change of the measured value", or_none("item.judged.change"))
    low: float | None = key("lower end of its 95 % interval", or_none("item.judged.low"))
    high: float | None = key("upper end of it", or_none("item.judged.high"))
    p: float | None = key("p-value", or_none("item.judged.shift.p_value"))
    p_adjusted: float | None = key(
        "after Holm's adjustment within its family", or_none("item.judged.p_adjusted")
    )
    degrees: float | None = key(
        "degrees of freedom of the interval", or_none("item.judged.shift.degrees")
    )
    verdict: str | None = key(
        "`better`, `worse`, `equivalent`, `inconclusive`, `seen once`",
        or_none("item.judged.verdict"),
    )
    method: str | None = key("where the interval is from", or_none("item.judged.method"))


class LevelEffectObject(Judgement):
    """The effect of a level."""

    factor: str = key("what was varied", "item.factor")
    level: str = key("its level", "item.level")
    against: str = key("the level that it is compared with", "item.against")
    estimable: bool = key("whether the change is that of the level alone", "item.estimable")
    together: list[str] = key(
        "what always came with it, so that the change is of both", "item.together"
    )


class UnlikeObject(Object):
    """A level that changes metrics by different amounts."""

    bench: str = key("where")
    factor: str = key("what was varied", "item.factor")
    level: str = key("its level", "item.level")
    gains_least: str = key("the metric that gains least, or loses most", "item.least.series.title")
    least_change: float = key("its change, a share", "item.least.change")
    gains_most: str = key("the metric that gains most", "item.most.series.title")
    most_change: float = key("its change, a share", "item.most.change")


class InteractionObject(Judgement):
    """An interaction."""

    factor: str = key("what was varied", "item.factor")
    level: str = key("its level", "item.level")
    against: str = key("the level that it is compared with", "item.against")
    other: str = key("the factor beside it", "item.other")
    other_level: str = key("its level", "item.other_level")
    other_first: str = key("the level that this is compared with", "item.other_first")
    beside_first: float | None = key(
        "the change that `level` brings beside `other_first`", "item.with_first.change"
    )
    beside_level: float | None = key(
        "the change that it brings beside `other_level`", "item.with_other.change"
    )
    text: str = key("the same in words", lambda placed: interaction_sentence([placed.item]))


class ConfoundedObject(Object):
    """What cannot be told apart."""

    bench: str = key("where")
    terms: list[str] = key("the levels, or what moved with them", "item.terms")
    text: str = key("that in words", of_item(inseparable_text))
    separate: str | None = key("the configuration whose measurement would tell", "item.separate")
    levels: dict[str, str] | None = key("its levels", "item.levels")


class PartObject(Object):
    """The part of a factor."""

    factor: str = key("what was varied")
    start: str = key("its level before")
    end: str = key("its level after")
    change: float | None = key("the change due to it", "judged.change")
    low: float | None = key("lower end of its 95 % interval", "judged.low")
    high: float | None = key("upper end of it", "judged.high")
    share: float | None = key("its part of the whole, on the scale of the analysis")


class PartsObject(OfMetric):
    """The parts of a whole change."""

    start: str = key("the configuration before", "item.start")
    end: str = key("the configuration after", "item.end")
    change: float | None = key("the whole change", "item.total.change")
    low: float | None = key("lower end of its 95 % interval", "item.total.low")
    high: float | None = key("upper end of it", "item.total.high")
    parts: list[PartObject] = key("the parts of its factors", "item.parts")
    rest: float | None = key(
        "what was measured beyond them, on the scale of the analysis", "item.rest"
    )
    lacks: bool = key("whether that is more than chance", "item.lacks")
    through: list[str] = key("measured configurations that lie between", "item.through")
    text: str = key("the same in words", of_item(part_line))


def _factor(judged: str, end: str) -> Callable[[ScalingStep], float]:
    """One and a change, which is a factor."""
    get = operator.attrgetter(f"{judged}.{end}")
    return lambda step: 1 + float(get(step))


class AmountObject(Object):
    """An amount of a resource."""

    level: str = key("the level")
    amount: float = key("its amount")
    speed: float | None = key("times as fast as with the least", _factor("speed", "change"))
    speed_low: float | None = key("lower end", _factor("speed", "low"))
    speed_high: float | None = key("upper end", _factor("speed", "high"))
    efficiency: float | None = key("that over the ideal", _factor("efficiency", "change"))
    efficiency_low: float | None = key("lower end", _factor("efficiency", "low"))
    efficiency_high: float | None = key("upper end", _factor("efficiency", "high"))


class ScalingObject(OfMetric):
    """Scaling."""

    factor: str = key("what was varied", "item.factor")
    least: float = key("the least amount", "item.least")
    steps: list[AmountObject] = key("the other amounts", "item.steps")
    serial_share: float | None = key("the serial share, from three amounts on", "item.serial")
    serial_half_width: float | None = key(
        "half of the width of its 95 % interval", "item.serial_half_width"
    )


class LackOfFitObject(OfMetric):
    """Lack of fit."""

    p: float | None = key("p-value of lack of fit", "item.p_value")
    degrees: float = key("its degrees of freedom", "item.degrees")
    used: bool = key("whether intervals rest on it", "item.used")


class _IndexRow(NamedTuple):
    bench: str
    factor: str
    level: str
    part: IndexPart


def _index_rows(answer: FactorsAnswer) -> list[_IndexRow]:
    return [
        _IndexRow(bench.bench, factor, level, part)
        for bench in answer.benches
        for (factor, level), parts in bench.index_parts.items()
        for part in parts
    ]


class IndexPartObject(Object):
    """A workload in the index."""

    bench: str = key("where")
    factor: str = key("what was varied")
    level: str = key("its level")
    workload: str = key("the workload", "part.workload")
    index_weight: float = key("its weight", "part.weight")
    gain: float | None = key("its own change, turned so that more is better", "part.own.change")
    index_without: float | None = key(
        "the change of the index without it", or_none("part.without.change")
    )


def _left_out(answer: FactorsAnswer) -> list[tuple[str, str]]:
    return [pair for bench in answer.benches for pair in bench.left_out]


def _each(name: str) -> Callable[[FactorsAnswer], list[Placed]]:
    """What is known of every bench under a name, each with its bench."""
    return lambda answer: [
        Placed(b.bench, item) for b in answer.benches for item in getattr(b, name)
    ]


class FactorsObject(Object):
    """`ferocal factors --json`."""

    question: str = key("the question of the study")
    baseline: str = key("its baseline")
    margin: float = key("its margin, a share")
    confidence: float = key("the level of intervals")
    criteria_changed: list[str] = CRITERIA_CHANGED
    caveats: list[RemarkObject] = DOUBTS
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    factors: list[LevelEffectObject] = key("what every level does", _each("effects"))
    unlike: list[UnlikeObject] = key("levels that do not act alike on all metrics", _each("unlike"))
    interactions: list[InteractionObject] = key(
        "which levels act on each other", _each("interactions")
    )
    confounded: list[ConfoundedObject] = key("what cannot be told apart", _each("confounded"))
    blind: list[ConfoundedObject] = key(
        "pairs of factors of which nothing shows whether they act on each other",
        _each("blind"),
    )
    decomposition: list[PartsObject] = key("whole changes in their parts", _each("decomposition"))
    scaling: list[ScalingObject] = key("how metrics scale with amounts", _each("scaling"))
    lack_of_fit: list[LackOfFitObject] = key("how well the factors add up", _each("lack_of_fit"))
    index: list[IndexPartObject] = key("which workload carries the index", _index_rows)
    not_measured: list[list[str]] = key(
        "levels and configurations that are left out, with reasons", _left_out
    )
