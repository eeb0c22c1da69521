"""Doubts: the caveats that readings and circumstances give rise to, put on the effects."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from ferocal.analysis import extremes, spread, trends
from ferocal.analysis.arms import Finding, sort_into_arms
from ferocal.analysis.caveats import Caveat, sized
from ferocal.analysis.comparability import (
    Circumstances,
    find_differences,
    find_statistic_difference,
)
from ferocal.analysis.conditions import Conditions, find_condition_differences
from ferocal.analysis.effects import Effect, control_failures
from ferocal.analysis.losses import Losses, find_losses
from ferocal.analysis.readings import Readings, summarise_visits
from ferocal.analysis.verdicts import CHANGED
from ferocal.wording import counted


@dataclass(frozen=True)
class Context:
    """What is known of the two sides of a comparison besides their readings.

    ``explained`` names, by configuration, the software facts that change with a factor in
    which it differs from the baseline. ``strays`` counts, by workload and metric, readings
    in a unit that is not the study's.
    """

    circumstances: Mapping[str, Circumstances] = field(default_factory=dict)
    explained: Mapping[str, Collection[str]] = field(default_factory=dict)
    conditions: Conditions | None = None
    losses: Losses = field(default_factory=dict)
    strays: Mapping[tuple[str, str], tuple[int, str]] = field(default_factory=dict)
    interleaved: bool = True


def add_doubts(
    effects: Sequence[Effect], readings: Readings, context: Context
) -> tuple[Effect, ...]:
    """The effects, each with the caveats on its readings and on its two sides.

    Parameters
    ----------
    effects
        Effects of one baseline, as from `estimation.estimate_effects`.
    readings
        The readings that they are made of.
    context
        What else is known of the two sides.
    """
    if not effects:
        return ()
    baseline = effects[0].baseline
    by_place = _by_place(readings, find_doubts(readings))
    coarse = extremes.coarse_caveats(readings, effects, extremes.find_steps(readings))
    differing = (
        find_condition_differences(context.conditions, baseline, interleaved=context.interleaved)
        if context.conditions is not None and baseline in context.conditions.configurations
        else {}
    )
    trades = _trade_offs(effects)
    shared = _control_caveats(effects)
    sides: dict[tuple[str, str], list[Caveat]] = {}
    result = []
    for n, effect in enumerate(effects):
        side = (effect.series.workload, effect.configuration)
        if side not in sides:
            sides[side] = [
                *_between_sides(effect, context),
                *differing.get(effect.configuration, []),
            ]
        found = [*sides[side], *_of_metric(effect, context)]
        for place in (None, effect.configuration, baseline):
            found += by_place.get((effect.series, place), [])
        lost = find_losses(context.losses, effect)
        found += [c for c in (lost, coarse[n], trades.get(n)) if c is not None]
        found += [] if effect.control else shared
        result.append(replace(effect, caveats=(*effect.caveats, *found)) if found else effect)
    return tuple(result)


def find_doubts(readings: Readings) -> list[Finding]:
    """Everything that is odd about the readings themselves."""
    if not len(readings.value):
        return []
    arms = sort_into_arms(readings)
    summaries = summarise_visits(readings, arms.scales)
    return [
        *trends.find_drift(arms, summaries),
        *trends.find_first_runs(arms),
        *spread.find_outliers(arms),
        *spread.find_two_modes(arms),
        *extremes.find_caps(arms),
        *extremes.find_implausible(arms),
        *extremes.find_magnitudes(arms),
        *extremes.find_short_captures(arms),
    ]


_Place = tuple[object, str | None]


def _by_place(readings: Readings, findings: Iterable[Finding]) -> dict[_Place, list[Caveat]]:
    found: dict[_Place, list[Caveat]] = {}
    for series, configuration, caveat in findings:
        name = None if configuration is None else readings.configurations[configuration]
        found.setdefault((readings.series[series], name), []).append(caveat)
    return found


def _between_sides(effect: Effect, context: Context) -> list[Caveat]:
    """Caveats that hold for every metric of a workload under a configuration."""
    own, base = (context.circumstances.get(n) for n in (effect.configuration, effect.baseline))
    if own is None or base is None:
        return []
    explained = context.explained.get(effect.configuration, ())
    return find_differences(own, base, effect.series.workload, explained)


def _of_metric(effect: Effect, context: Context) -> list[Caveat]:
    """Caveats that hold for one metric only."""
    series = effect.series
    own, base = (context.circumstances.get(n) for n in (effect.configuration, effect.baseline))
    found = []
    if own is not None and base is not None:
        found += find_statistic_difference(own, base, series.workload, series.metric)
    count, unit = context.strays.get((series.workload, series.metric), (0, ""))
    if count:
        text = f"{counted(count, 'reading')} of {series.metric} in {unit}, not in {series.unit}, "
        found.append(Caveat("other-unit", f"{text}left out"))
    return found


def _trade_offs(effects: Sequence[Effect]) -> dict[int, Caveat]:
    """For metrics of one workload of which one gets better and another worse."""
    groups: dict[tuple[str, str], list[int]] = {}
    for n, effect in enumerate(effects):
        if effect.verdict in CHANGED:
            groups.setdefault((effect.series.workload, effect.configuration), []).append(n)
    found = {}
    for (workload, configuration), members in groups.items():
        sides = {
            verdict: [n for n in members if effects[n].verdict is verdict] for verdict in CHANGED
        }
        if not all(sides.values()):
            continue
        better, worse = (
            max((effects[n] for n in sides[v]), key=lambda e: abs(e.shift.mean)) for v in CHANGED
        )
        text = f"with {configuration}, {_told(better)} gets better while {_told(worse)} of "
        caveat = Caveat("trade-off", f"{text}{workload} gets worse")
        found.update(dict.fromkeys(members, caveat))
    return found


def _told(effect: Effect) -> str:
    change = sized(effect.shift.mean, effect.scale, effect.series.unit)
    return f"{effect.series.metric} ({change})"


def _control_caveats(effects: Sequence[Effect]) -> list[Caveat]:
    """A caveat on every effect where the control arm is not nil."""
    broken = control_failures(effects)
    return [
        Caveat(
            "control-differs",
            f"the control arm, which is {e.baseline} again, changes {e.series.workload} {_told(e)}",
        )
        for e in broken
    ]
