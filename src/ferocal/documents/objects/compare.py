"""What ``ferocal compare --json`` prints."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.answer import answer_lines
from ferocal.documents.between import crossing_sentence
from ferocal.documents.caveats.remarks import Remark, make_remarks
from ferocal.documents.caveats.words import caveat_text, seen_text, words_of
from ferocal.documents.next_steps import next_steps
from ferocal.documents.objects.base import Object, Placed, Text, key
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    DOUBTS,
    EXCLUDED,
    LEFT_OUT,
    GapObject,
    OfSeries,
    RemarkObject,
)
from ferocal.documents.overview import is_asked
from ferocal.documents.wording import VERDICT_MARKS

if TYPE_CHECKING:
    from ferocal.analysis.caveats.kinds import Caveat
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.compare import Comparison
    from ferocal.answers.summaries import SummaryEffect

_BEYOND = f"more than {MOST_ROUNDS} rounds would be needed"


def _advice(caveat: Caveat) -> str:
    return words_of(caveat.kind).advice


class CaveatObject(Object):
    """A caveat."""

    code: str = key("its stable code ([tables.md](tables.md))")
    weight: str = key("`forbids`, `weakens` or `informs`", "kind.weight")
    text: str = key("the whole sentence", caveat_text)
    seen: str = key("what was seen", seen_text)
    advice: str = key("what to do about it", _advice)


class EffectNoiseFloor(Object):
    """A noise floor of an effect."""

    age: float | None = key("its age", unit="days")
    source: str = key("where it is from")


def _margin(effect: Effect) -> float | None:
    return effect.series.margin if effect.scale == "ratio" else effect.series.unit_margin


def _mark(effect: Effect) -> str:
    return VERDICT_MARKS[effect.verdict]


def _why_no_number(effect: Effect) -> str | None:
    """Why an effect has no number of further rounds, None if it has one."""
    if effect.more_rounds is not None:
        return None
    if effect.out_of_reach:
        return _BEYOND
    if effect.verdict in ("seen once", "not judged", "not comparable"):
        return str(effect.verdict)
    if effect.verdict != "inconclusive":
        return "decided"
    if effect.more_visits is not None:
        return "there are no rounds to add to; more_visits says what would do"
    return "no more can be measured, or how much rounds vary is not known"


class EffectObject(OfSeries):
    """An effect."""

    baseline: str = key("the configuration that is compared with")
    configuration: str = key("the configuration that is compared")
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit")
    change: float | None = key("change of the measured value")
    low: float | None = key("lower end of its interval")
    high: float | None = key("upper end of its interval")
    margin: float | None = key(
        "the margin, a share or in the unit; null where none applies", _margin
    )
    method: str = key(
        "where the interval is from: `paired by round`, `between visits`, `noise floor`, "
        "`as stated`, `bound`, `none`"
    )
    degrees: float | None = key("its degrees of freedom", "shift.degrees")
    p: float | None = key("p-value", "shift.p_value")
    p_adjusted: float | None = key("p-value after Holm's adjustment within its family")
    family_size: int = key("how many comparisons that family has")
    verdict: str = key(
        "`better`, `worse`, `equivalent`, `inconclusive`; `seen once` without an interval, "
        "`not judged` where neither direction is better, `not comparable` where a caveat "
        "forbids the comparison"
    )
    mark: str = key(
        "the verdict as tables have it: `better`, `worse`, `equal`, `open`, `seen once`, "
        "`not judged`, `not comparable`",
        _mark,
    )
    beyond_margin: bool = key("whether the whole interval is outside the margin")
    rounds: int = key("rounds that pair")
    visits: int = key("visits of the configuration that count")
    base_visits: int = key("visits of the baseline that count")
    runs: int = key("runs of both sides in them")
    base_runs: int = key("runs of the baseline in them")
    more_rounds: int | None = key("further rounds that an inconclusive effect is expected to need")
    more_rounds_reason: str | None = key("why that is null", _why_no_number)
    more_visits: int | None = key(
        "further visits to each side that it is expected to need, where there are no rounds to "
        "add to"
    )
    open_until: int | None = key(
        "the round of the next look, in a study that is measured until decided"
    )
    bound: str | None = key(
        "`>` or `<` where a side is known as a bound only: the change is above or below `change`"
    )
    read: tuple[float, float] | None = key(
        "between what the change is by the ranges that were read, where no interval is known"
    )
    noise_floor: EffectNoiseFloor | None = key("the noise floor that gave the interval, if one did")
    control: bool = key("whether this is the control arm")
    caveats: list[CaveatObject] = key("its caveats")


class AnswerLine(Object):
    """A line of an answer."""

    bench: str = key("on which bench")
    about: Text = key("the configurations it is about, null for all", "item.head")
    text: str = key("what it says", "item.text")


class StepObject(Object):
    """A next step."""

    bench: str = key("on which bench")
    text: str = key("what to do, and how long it takes", lambda step: step.item[0])
    command: str | None = key("the command that does it", lambda step: step.item[1])


def _of_benches(
    get: Callable[[Comparison], Iterable[Any]],
) -> Callable[[Comparison], list[Placed]]:
    """What is said of each bench, with its name."""
    return lambda comparison: [
        Placed(bench, found)
        for bench in comparison.benches
        for found in get(comparison.on_bench(bench))
    ]


def _remarks(comparison: Comparison) -> list[Remark]:
    compared = [e for e in comparison.effects if not e.control]
    return make_remarks(compared, comparison.levels)


def _mostly(summary: SummaryEffect) -> str | None:
    return None if summary.mostly is None else summary.mostly.title


class SummaryObject(Object):
    """Several metrics as one, each turned so that more is better."""

    bench: str = key("where")
    group: Text = key("the group of workloads, `primary metrics` or `all metrics`", "series.group")
    statistic: str = key("`geometric mean` or `median`", "series.metric")
    configuration: str = key("what is compared")
    baseline: str = key("with what")
    members: int = key("how many metrics there are")
    change: float = key("the change, a share")
    low: float | None = key("lower end of its interval; null: as read")
    high: float | None = key("upper end of it")
    verdict: str = key("`better`, `worse`, `equivalent`, …")
    method: str = key("where the interval is from")
    mostly: str | None = key("the metric that moves most of it", _mostly)
    share: float | None = key("the part of all movements that is its own")


class ComparisonObject(Object):
    """`ferocal compare --json`."""

    question: str = key("the question of the study")
    answer: list[AnswerLine] = key("the answer, line by line", _of_benches(answer_lines))
    baseline: str = key("the configuration that the others are compared with")
    confidence: float = key("two-sided level of all intervals")
    margin: float = key("the margin of the study, a share")
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    criteria_changed: list[str] = CRITERIA_CHANGED
    caveats: list[RemarkObject] = key(
        "what limits the result, the gravest first", _of_benches(_remarks)
    )
    next: list[StepObject] = key("what to do next", _of_benches(next_steps))
    effects: list[EffectObject] = key("one for every configuration and metric")
    summaries: list[SummaryObject] = key("groups of metrics as one, and all together")
    gaps: list[GapObject] = key("cells without a reading, for which there is no effect")

    def only(self, verdicts: Sequence[str]) -> ComparisonObject:
        """With the effects of some verdicts alone, all if none are named."""
        if not verdicts:
            return self
        effects = [e for e in self.effects if is_asked(Verdict(e.verdict), verdicts)]
        return self.model_copy(update={"effects": effects})


class LeadObject(Object):
    """A bench against the first one."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    configuration: str = key("under which configuration")
    bench: str = key("the bench")
    other: str = key("the first bench")
    leader: str | None = key("the bench that is shown to be better")
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "estimate.scale")
    change: float | None = key("the bench over the first one", "estimate.change")
    low: float | None = key("lower end of its interval", "estimate.low")
    high: float | None = key("upper end of it", "estimate.high")
    p_adjusted: float | None = key("p-value, adjusted among all of these", "estimate.p_adjusted")
    verdict: str = key(
        "whether the bench is `better`, `worse`, `equivalent`, …", "estimate.verdict"
    )


class LeadChangeObject(Object):
    """A lead that changed hands."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    bench: str = key("the bench")
    other: str = key("the first bench")
    last: str = key("the last configuration of the former lead", "before.last")
    former: str = key("who led until then", "before.leader")
    former_change: float | None = key("the bench over the first one until then", "before.change")
    first_configuration: str = key("the first configuration of the new lead", "after.first")
    leader: str = key("who leads since", "after.leader")
    change: float | None = key("the bench over the first one since", "after.change")


class AcrossObject(Object):
    """`ferocal compare --across benches --json`."""

    question: str = key("the question of the study")
    first_bench: str = key("the bench that the others are compared with")
    factor: str | None = key("the factor whose levels follow each other")
    confidence: float = key("the level of intervals")
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
    order: list[str] = key("configurations in their order")
    caveats: list[RemarkObject] = DOUBTS
    leads: list[LeadObject] = key("who leads, metric by metric")
    changes: list[LeadChangeObject] = key("where a lead changed hands")
    differing: dict[str, dict[str, str]] = key("facts of hardware that differ, by bench")


class DifferenceObject(Object):
    """A change in one place against the same in another."""

    bench: str = key("where the first was measured", "first.bench")
    configuration: str = key("what is compared", "first.configuration")
    baseline: str = key("with what it is compared", "first.baseline")
    workload: str = key("of the first", "series.workload")
    metric: str = key("of the first", "series.metric")
    first_place: str = key("where the first change was seen")
    second_place: str = key("where the second was")
    first_change: float | None = key("the first change", "first.change")
    second: float | None = key("the second change", "second.change")
    scale: str = key("`ratio`: changes are shares; `difference`: in the unit", "estimate.scale")
    change: float | None = key(
        "the second over the first, less one; a difference of differences in the unit",
        "estimate.change",
    )
    low: float | None = key("lower end of its interval", "estimate.low")
    high: float | None = key("upper end of it", "estimate.high")
    p_adjusted: float | None = key(
        "p-value after Holm's adjustment among all of these", "estimate.p_adjusted"
    )
    verdict: str = key(
        "whether the second is `better`, `worse`, `equivalent` or that is `inconclusive`",
        "estimate.verdict",
    )


class CrossingObject(Object):
    """Where curves over the size of a problem cross."""

    bench: str = key("where")
    configuration: str = key("what is compared")
    baseline: str = key("with what")
    sized_workload: str = key("the workload that has sizes")
    metric: str = key("what was read")
    parameter: str = key("what the size is of")
    size: float = key("where both are alike", "crossing.size")
    low: float | None = key("lower end of its 95 % interval", "crossing.low")
    high: float | None = key("upper end of it", "crossing.high")
    better_above: bool = key("whether the configuration is better beyond", "crossing.better_above")
    text: str = key("the same in words", crossing_sentence)


class BetweenObject(Object):
    """`ferocal compare --between --json`."""

    question: str = key("the question of the study")
    kind: str = key("between what: `workload`, `size`, `bench`, `study`, a factor")
    baseline: str = key("with what configurations are compared")
    differences: list[DifferenceObject] = key("the changes in one place against those in another")
    crossings: list[CrossingObject] = key("where curves over sizes cross")
    skipped: list[str] = key("what could not be compared")
