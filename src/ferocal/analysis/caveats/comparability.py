"""Caveats on what differed between the two sides besides what was meant to."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from ferocal.analysis.caveats.circumstances import Circumstances, Conditions, SeenValues
from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, finding, size_of
from ferocal.analysis.data.readings import NO_ROUND
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, speed_factor
from ferocal.analysis.inference.student import combine_errors, t_interval
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.terms.conditions import TEMPERATURE, least_difference

_NOTHING: SeenValues = {}
# In fewer runs others are busy now and then on any machine.
_BUSY_RUNS = 0.1
# The parts of traces that say how the runs started, and from which p-value on that may be chance.
_STARTS, _CHANCE = "-start", 0.05
# So many metrics are named with what they are per unit of a resource.
_MOST_PER_RESOURCE = 3
# Gives the values of one side of an effect that are to be the same on both.
ValuesOf = Callable[[View, Effect, Circumstances], SeenValues]
# What effects have in common for which these values are the same.
SharedBy = Callable[[Effect], tuple[str, ...]]


def _by_workload(effect: Effect) -> tuple[str, ...]:
    return effect.configuration, effect.series.workload


def _by_metric(effect: Effect) -> tuple[str, ...]:
    return effect.configuration, effect.series.workload, effect.series.metric


def _comparing(
    values_of: ValuesOf, shared_by: SharedBy = _by_workload
) -> Callable[[View], Iterator[Finding]]:
    """A test that finds each name whose values on the two sides are not the same."""

    def find(view: View) -> Iterator[Finding]:
        groups: dict[tuple[str, ...], list[int]] = {}
        for n, effect in enumerate(view.effects):
            groups.setdefault(shared_by(effect), []).append(n)
        for members in groups.values():
            effect = view.effects[members[0]]
            sides = (effect.configuration, effect.baseline)
            here, there = (view.context.circumstances.get(name) for name in sides)
            if here is None or there is None:
                continue
            ours, theirs = values_of(view, effect, here), values_of(view, effect, there)
            for name in ours:
                if name in theirs and ours[name] != theirs[name]:
                    here_is, there_is = _in_order(ours[name]), _in_order(theirs[name])
                    yield finding(members, name=name, here=here_is, there=there_is)

    return find


def _in_order(values: frozenset[str]) -> tuple[str, ...]:
    return tuple(sorted(values))


def _software_moved(view: View) -> Iterator[Finding]:
    """Software of one configuration that was not the same at all of its visits.

    A factor explains what differs between configurations, and not what differs within one.
    """
    groups: dict[tuple[str, str], list[int]] = {}
    for n, effect in enumerate(view.effects):
        for side in (effect.configuration, effect.baseline):
            groups.setdefault((side, effect.series.workload), []).append(n)
    for (side, workload), members in groups.items():
        known = view.context.circumstances.get(side)
        if known is None:
            continue
        for name, values in {**known.software, **_subject_of(known, workload)}.items():
            if len(values) > 1:
                yield finding(members, side, name=name, seen=_in_order(values))


def _resources(view: View, effect: Effect, side: Circumstances) -> SeenValues:
    """Resources that differ by no declared factor or amount."""
    sides = (effect.configuration, effect.baseline)
    declared = set.intersection(*(set(view.setting.amounts.get(name, ())) for name in sides))
    declared |= set(view.context.explained.get(effect.configuration, ()))
    return {name: values for name, values in side.resources.items() if name not in declared}


def _per_resource(view: View) -> Iterator[Finding]:
    """How fast a configuration is per core, per adapter, where it has more or fewer of them."""
    groups: dict[str, list[int]] = {}
    for n, effect in enumerate(view.effects):
        known = effect.bound is None and not math.isnan(effect.change)
        if known and effect.scale == "ratio" and effect.verdict is not Verdict.NOT_JUDGED:
            groups.setdefault(effect.configuration, []).append(n)
    for name, members in groups.items():
        effects = [view.effects[n] for n in members]
        for resource, (ours, theirs) in _amounts(view, effects[0]).items():
            # What is per unit already says so itself.
            raw = [n for n in members if resource not in view.effects[n].series.per]
            ordered = sorted((view.effects[n] for n in raw), key=_by_role)[:_MOST_PER_RESOURCE]
            changes = tuple((e.series.title, speed_factor(e) * theirs / ours - 1) for e in ordered)
            if changes:
                yield finding(
                    raw, name, resource=resource, here=ours, there=theirs, changes=changes
                )


def _by_role(effect: Effect) -> int:
    return ("primary", "secondary", "detail", "context").index(effect.series.role)


def _amounts(view: View, effect: Effect) -> dict[str, tuple[float, float]]:
    """What both sides have a different number of: as levels declare it, or as facts."""
    sides = (effect.configuration, effect.baseline)
    declared = [dict(view.setting.amounts.get(name, {})) for name in sides]
    for name, known in zip(sides, declared, strict=True):
        circumstances = view.context.circumstances.get(name)
        for fact, values in {} if circumstances is None else circumstances.resources.items():
            value, *others = values or ("",)
            if not others and value.isdecimal():
                known.setdefault(fact, float(value))
    here, there = declared
    pairs = {name: (here[name], there[name]) for name in here if name in there}
    # Of nothing there is nothing per unit.
    return {n: pair for n, pair in pairs.items() if all(pair) and pair[0] != pair[1]}


def _software(view: View, effect: Effect, side: Circumstances) -> SeenValues:
    """Software facts that do not change with a declared factor in which the sides differ."""
    explained = view.context.explained.get(effect.configuration, ())
    return {name: values for name, values in side.software.items() if name not in explained}


def _subject(view: View, effect: Effect, side: Circumstances) -> SeenValues:
    workload = effect.series.workload
    explained = view.context.explained.get(effect.configuration, ())
    if workload in explained:
        return _NOTHING
    named = _subject_of(side, workload)
    return {name: values for name, values in named.items() if name not in explained}


def _subject_of(side: Circumstances, workload: str) -> SeenValues:
    """What is known of a workload on one side, by names such as "version of flight"."""
    subject = side.subjects.get(workload, _NOTHING)
    return {f"{name} of {workload}": values for name, values in subject.items()}


def _statistic(view: View, effect: Effect, side: Circumstances) -> SeenValues:
    place = (effect.series.workload, effect.series.metric)
    known = side.statistics.get(place)
    return {} if known is None else {effect.series.metric: known}


def _other_unit(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        series = effect.series
        count, unit = view.context.strays.get((series.workload, series.metric), (0, ""))
        if count:
            yield finding([n], count=count, metric=series.metric, unit=unit, wanted=series.unit)


def _one_sided_losses(view: View) -> Iterator[Finding]:
    for n, effect in enumerate(view.effects):
        values = _lost_on_one_side(view, effect)
        if values is not None:
            yield Finding([n], values)


def _lost_on_one_side(view: View, effect: Effect) -> dict[str, Any] | None:
    """Runs that are excluded, failed or missing on one of the two sides only."""
    sides = (effect.configuration, effect.baseline)
    nothing: Mapping[str, int] = {}
    here, there = (
        view.context.losses.get((effect.series.workload, name), nothing) for name in sides
    )
    if here and there:
        return None
    if here or there:
        side, other = sides if here else sides[::-1]
        return {"lost": tuple(sorted((here or there).items())), "here": side, "there": other}
    runs = (effect.runs - effect.base_runs, effect.base_runs)
    # Visits to one side alone say what rounds are like, and are none that the other has lost.
    alone = effect.visits != effect.base_visits
    if effect.method is not Method.PAIRED or alone or runs[0] == runs[1]:
        return None
    return {"lost": (), "here": sides[0], "there": sides[1], "runs": runs}


def _conditions_differ(view: View) -> Iterator[Finding]:
    """What was read around the runs, or beside in them, and was not as with the baseline."""
    contexts = [e for e in view.effects if e.verdict is Verdict.NOT_JUDGED]
    both = bool(contexts) and view.context.conditions is not None
    level = view.level / 2 if both else view.level
    yield from _conditions_of_visits(view, level)
    yield from _contexts(view, contexts, level)


def _contexts(view: View, contexts: Sequence[Effect], level: float) -> Iterator[Finding]:
    """Metrics that are context and differ, for the other metrics of their workload.

    All comparisons of contexts share the level. Without any spread every difference is one;
    what is within the margin, or too small to matter for a temperature, is none.
    """
    for context in contexts:
        constant = context.shift.sd == 0 and context.shift.mean != 0
        shown = constant or context.shift.p_value < level / len(contexts)
        if context.series.metric.endswith(_STARTS):
            # How runs start is set, and few visits show it: it counts unless it may be chance.
            shown |= not context.shift.p_value >= _CHANCE
        if not shown or abs(context.shift.mean) <= _least_shift(context):
            continue
        series = context.series
        members = [
            n
            for n, e in enumerate(view.effects)
            if (e.configuration, e.series.workload) == (context.configuration, series.workload)
            and e.series != series
        ]
        yield finding(
            members, context.configuration,
            context=series.title, by=size_of(context), baseline=view.baseline,
        )  # fmt: skip


def _least_shift(effect: Effect) -> float:
    """What a context may differ by without a word."""
    margin = margin_on_scale(effect.series, effect.scale)
    if not math.isnan(margin):
        return margin
    return least_difference(TEMPERATURE) if effect.series.unit == "°C" else 0.0


def _conditions_of_visits(view: View, level: float) -> Iterator[Finding]:
    """Conditions that were not the same as the baseline's.

    Notes
    -----
    Student's t on the differences between visits of one round, or Welch's between all
    visits where they are not interleaved; all comparisons share the level. Texts differ
    when nothing that was seen on one side was seen on the other.
    """
    conditions = view.context.conditions
    if conditions is None or view.baseline not in conditions.configurations:
        return
    base = conditions.configurations.index(view.baseline)
    present = np.unique(conditions.configuration_of).tolist()
    if base not in present:
        return
    others = [c for c in present if c != base]
    level /= max(1, len(others) * len(conditions.numbers))
    effects: dict[str, list[int]] = {}
    for n, effect in enumerate(view.effects):
        effects.setdefault(effect.configuration, []).append(n)
    for c in others:
        name = conditions.configurations[c]
        members = effects.get(name, [])
        for values in _differing_numbers(view, conditions, c, base, level):
            yield Finding(members, values, name)
        for values in _differing_words(conditions, c, base):
            yield Finding(members, values)


def _differing_numbers(
    view: View, conditions: Conditions, arm: int, base: int, level: float
) -> Iterator[dict[str, Any]]:
    test = _paired if view.setting.interleaved else _unpaired
    for key, values in conditions.numbers.items():
        difference, p_value = test(conditions, values, arm, base)
        if p_value < level and abs(difference) >= least_difference(key):
            found = {"condition": key, "difference": difference, "p": p_value}
            yield {**found, "baseline": view.baseline}


def _paired(conditions: Conditions, values: FloatArray, arm: int, base: int) -> tuple[float, float]:
    here, there = (_by_round(conditions, values, c) for c in (arm, base))
    gaps = np.array([here[r] - there[r] for r in here.keys() & there.keys()])
    if len(gaps) < 3:
        return 0.0, 1.0
    error = float(np.std(gaps, ddof=1)) / np.sqrt(len(gaps))
    return _test(float(gaps.mean()), error, len(gaps) - 1.0)


def _by_round(conditions: Conditions, values: FloatArray, arm: int) -> dict[int, float]:
    rows = (conditions.configuration_of == arm) & ~np.isnan(values)
    rows &= conditions.round_of != NO_ROUND
    return dict(zip(conditions.round_of[rows].tolist(), values[rows].tolist(), strict=True))


def _unpaired(
    conditions: Conditions, values: FloatArray, arm: int, base: int
) -> tuple[float, float]:
    sides = [values[(conditions.configuration_of == c) & ~np.isnan(values)] for c in (arm, base)]
    if min(map(len, sides)) < 2:
        return 0.0, 1.0
    parts = [(np.atleast_1d(s.var(ddof=1) / len(s)), np.atleast_1d(len(s) - 1.0)) for s in sides]
    error, degrees = combine_errors(*parts[0], *parts[1])
    return _test(float(sides[0].mean() - sides[1].mean()), float(error[0]), float(degrees[0]))


def _test(difference: float, error: float, degrees: float) -> tuple[float, float]:
    columns = (np.atleast_1d(value) for value in (difference, error, degrees))
    return difference, float(t_interval(*columns).p_value[0])


def _differing_words(conditions: Conditions, arm: int, base: int) -> Iterator[dict[str, Any]]:
    for key, texts in conditions.words.items():
        here, there = (
            frozenset().union(
                *(texts[v] for v in np.flatnonzero(conditions.configuration_of == c).tolist())
            )
            for c in (arm, base)
        )
        if here and there and not here & there:
            names = (conditions.configurations[c] for c in (arm, base))
            words = (tuple(sorted(texts)) for texts in (here, there))
            yield {"condition": key, "words": tuple(zip(names, words, strict=True))}


def _busy_bench(view: View) -> Iterator[Finding]:
    """Runs during which others surely took much of the processors, a tenth of the runs or more."""
    busy = view.context.busy
    if busy is None or not busy.runs:
        return
    for count, stolen, names in ((busy.busy, False, busy.names), (busy.stolen, True, ())):
        if count >= _BUSY_RUNS * busy.runs:
            yield view.on_everything(count=count, runs=busy.runs, stolen=stolen, names=names)


def _unproven(view: View) -> Iterator[Finding]:
    """Levels of which no check has shown that they were active, factor by factor."""
    levels: dict[str, dict[str, list[int]]] = {}
    for n, effect in enumerate(view.effects):
        factors = view.setting.differing.get(effect.configuration, ())
        for side in (view.baseline, effect.configuration):
            for level in view.context.unproven.get(side, ()):
                factor = level.partition("=")[0]
                if factor in factors:
                    levels.setdefault(factor, {}).setdefault(level, []).append(n)
    for factor, found in levels.items():
        members = sorted({n for places in found.values() for n in places})
        yield finding(members, factor=factor, levels=tuple(found))


def _definition_changed(view: View) -> Iterator[Finding]:
    for change in view.context.definition_changes:
        members = [
            n
            for n, effect in enumerate(view.effects)
            if change.configuration in (None, effect.configuration, effect.baseline)
            and change.workload in (None, effect.series.workload)
            and change.metric in (None, effect.series.metric.partition("/")[0])
        ]
        if members:
            yield finding(members, change=change)


KINDS = (
    CaveatKind("undeclared-difference", _comparing(_software), weight="forbids"),
    CaveatKind("software-moved", _software_moved),
    CaveatKind("definition-changed", _definition_changed, weight="forbids"),
    CaveatKind("unproven", _unproven),
    CaveatKind("resources-differ", _comparing(_resources), weight="forbids", bars=True),
    CaveatKind("per-resource", _per_resource, weight="informs"),
    CaveatKind("workload-differs", _comparing(_subject), weight="forbids", bars=True),
    CaveatKind("best-of", _comparing(_statistic, _by_metric), weight="forbids"),
    CaveatKind("other-unit", _other_unit, weight="forbids"),
    CaveatKind("conditions-differ", _conditions_differ, statistical=True),
    CaveatKind("busy-bench", _busy_bench),
    CaveatKind("one-sided-losses", _one_sided_losses),
)
