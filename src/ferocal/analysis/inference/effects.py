"""Effects: a configuration against the baseline, with interval and verdict."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Literal

import numpy as np

from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.looks import LookPlan
from ferocal.analysis.inference.noise_floors import NoiseFloor
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING

if TYPE_CHECKING:
    from ferocal.analysis.caveats.kinds import Caveat
    from ferocal.analysis.data.readings import Readings

CONTROL_LEVEL = 0.01
# By what more evidence can be had: further rounds, further visits to each side, or not at all.
Replicates = Literal["rounds", "visits", "none"]


@dataclass(frozen=True)
class Shift:
    """An effect on the scale of the analysis: natural logarithms, or the unit.

    ``sd`` is the standard deviation of the difference of two visits. All but ``mean``
    are NaN where the visits allow no interval.
    """

    mean: float
    low: float
    high: float
    p_value: float
    sd: float
    degrees: float


@dataclass(frozen=True)
class Estimate:
    """A contrast as it was estimated and judged.

    ``change``, ``low`` and ``high`` are shares on the "ratio" scale (0.034 is +3.4 %)
    and in the series' unit on the "difference" scale; NaN where unknown. ``shift`` is
    the same on the scale of the analysis. ``rounds`` counts the rounds that pair,
    ``visits`` and ``base_visits`` the visits of each side, ``runs`` the runs of both and
    ``base_runs`` those of the baseline; ``unpaired`` visits were left out.
    ``more_rounds`` is the expected number of further rounds that an inconclusive contrast
    needs, ``more_visits`` of further visits to each side where rounds cannot be had; None when
    decided, unknown, or ``out_of_reach``: more than `MOST_ROUNDS`. The p-value is
    adjusted for ``family_size`` comparisons. In a study
    that is measured until decided, ``open_until`` is the round of the look that is next.
    ``noise_floor`` is the one that gave the interval, if one did. With a ``bound`` (">" or "<")
    a side is known as a bound only: the change is above or below what stands there. Where there is
    no interval, and ranges were read, the change is between the ends of ``read``.
    """

    scale: Scale
    method: Method
    change: float
    low: float
    high: float
    shift: Shift
    p_adjusted: float
    family_size: int
    verdict: Verdict
    beyond_margin: bool
    rounds: int
    visits: int
    base_visits: int
    runs: int
    base_runs: int
    unpaired: int
    more_rounds: int | None
    out_of_reach: bool
    noise_floor: NoiseFloor | None
    more_visits: int | None = None
    open_until: int | None = None
    bound: str | None = None
    read: tuple[float, float] | None = None


@dataclass(frozen=True, kw_only=True)
class Effect(Estimate):
    """A configuration against the baseline for one series on one bench.

    ``control`` says that both sides are the same configuration.
    """

    bench: str
    series: Series
    baseline: str
    configuration: str
    control: bool
    caveats: tuple[Caveat, ...]


@dataclass(frozen=True)
class Accepted:
    """A caveat that the study file accepts for a reason, of a workload or of a factor's levels."""

    code: str
    reason: str
    workload: str | None = None
    factor: str | None = None


@dataclass(frozen=True)
class Setting:
    """What the analysis has to know of a study besides its readings.

    ``interleaved`` says whether visits of a round were made near each other in time, and
    ``replicates`` by what more evidence could be had on each bench. In a study with ``looks``,
    ``looks_taken`` are the rounds after which looks were recorded, by bench; None for all that
    the readings reach.
    ``noise_floors`` are those imported from elsewhere, by bench and series; the visits to
    ``floor_arm`` give one too, which counts first; where neither is, ``release_floor`` is asked for
    that of a series on a bench by how much releases vary. ``control`` is the configuration that is
    the baseline measured a second time; ``baselines`` are stated for workloads. For the caveats:
    ``differing`` names the factors in which each configuration differs from the baseline,
    ``amounts`` how much each has of what can be counted (cores, adapters), ``planned_rounds`` the
    number of rounds with which measuring began on each bench. ``accepted`` are caveats that bar no
    comparison.
    """

    interleaved: bool = True
    looks: LookPlan | None = None
    looks_taken: Mapping[str, Sequence[int]] | None = None
    replicates: Mapping[str, Replicates] = field(default_factory=dict)
    control: str | None = None
    baselines: Mapping[str, str] = field(default_factory=dict)
    noise_floors: Mapping[tuple[str, Series], NoiseFloor] = field(default_factory=dict)
    floor_arm: str | None = None
    release_floor: Callable[[Readings, int, int], NoiseFloor | None] | None = None
    differing: Mapping[str, Sequence[str]] = field(default_factory=dict)
    amounts: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    planned_rounds: Mapping[str, int] = field(default_factory=dict)
    accepted: Sequence[Accepted] = ()


def speed_factor(effect: Effect) -> float:
    """How many times as fast the configuration is: above 1 is better for every metric.

    The ratio of the configuration to the baseline, turned round for metrics that are
    better when lower; NaN on the "difference" scale, which has no ratio.
    """
    if effect.scale != "ratio":
        return float("nan")
    shift = effect.shift.mean
    return float(np.exp(shift if effect.series.better == "higher" else -shift))


def control_failures(effects: Sequence[Effect]) -> list[Effect]:
    """Effects of the control arm that are not nil, which throws doubt on all others.

    So grave an alarm is raised by chance in one study of a hundred, not in one of twenty.
    """
    return [
        effect
        for effect in effects
        if effect.control and effect.verdict in CHANGED and effect.p_adjusted < CONTROL_LEVEL
    ]


def counting_effects(effects: Sequence[Effect]) -> list[Effect]:
    """Effects of the metrics that decide; never of the control arm, never of details.

    These are the primary ones, else the secondary ones.
    """
    compared = [effect for effect in effects if not effect.control]
    by_role = ([e for e in compared if e.series.role == role] for role in DECIDING)
    return next(filter(None, by_role), [])


# By gate, whether a verdict breaks it.
_BREAKS: dict[str, Callable[[Verdict], bool]] = {
    "worse": lambda verdict: verdict is Verdict.WORSE,
    "not-equivalent": lambda verdict: verdict is not Verdict.EQUIVALENT,
}


def has_evidence(effect: Effect) -> bool:
    """Whether there is an interval that a verdict can rest on."""
    return effect.method is not Method.NONE and not math.isnan(effect.low)


def barring_caveat(effect: Effect) -> Caveat:
    """What of an effect that is not comparable forbids the comparison."""
    return next(caveat for caveat in effect.caveats if caveat.bars)


def gate_failures(effects: Sequence[Effect], *, gate: str) -> list[Effect]:
    """Effects that break a gate, of the metrics that decide (`counting_effects`).

    The gate "worse" lets pass what is not shown to be worse, "not-equivalent" only what
    is shown to be equivalent. What has no evidence breaks every gate, and so does what is not
    comparable.

    Raises
    ------
    ValueError
        When the gate is not one of these two.
    """
    if gate not in _BREAKS:
        raise ValueError(f'gate is "{gate}"; it can be "worse" or "not-equivalent"')
    judged = [e for e in counting_effects(effects) if e.verdict is not Verdict.NOT_JUDGED]
    barred = Verdict.NOT_COMPARABLE
    return [
        e for e in judged if not has_evidence(e) or e.verdict is barred or _BREAKS[gate](e.verdict)
    ]
