"""Effects: every configuration against the baseline, paired by round."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ferocal.analysis import caveats
from ferocal.analysis.caveats import Caveat
from ferocal.analysis.looks import LookPlan
from ferocal.analysis.paired import PairedResult
from ferocal.analysis.pairing import Pairing, pair, split_sides
from ferocal.analysis.power import rounds_to_decide
from ferocal.analysis.readings import (
    Readings,
    Scale,
    Series,
    summarise_visits,
)
from ferocal.analysis.verdicts import (
    CONFIDENCE,
    SIGNIFICANCE,
    Verdict,
    adjust_holm,
    decide,
    is_beyond,
)


@dataclass(frozen=True)
class Effect:
    """A configuration against the baseline for one series.

    ``change``, ``low`` and ``high`` are shares on the "ratio" scale (0.034 is +3.4 %)
    and in the series' unit on the "difference" scale; NaN where unknown. ``shift`` is
    the same on the scale of the analysis (natural logarithms, or the unit). ``rounds``
    counts the rounds that pair, ``runs`` the runs of both sides in them.
    ``more_rounds`` is the expected number of further rounds that an inconclusive
    effect needs, None when decided or when no reasonable number would do.
    """

    bench: str
    series: Series
    baseline: str
    configuration: str
    scale: Scale
    change: float
    low: float
    high: float
    shift: PairedResult
    p_adjusted: float
    verdict: Verdict
    beyond_margin: bool
    rounds: int
    runs: int
    more_rounds: int | None
    caveats: tuple[Caveat, ...]


def speed_factor(effect: Effect) -> float:
    """How many times as fast the configuration is: above 1 is better for every metric.

    The ratio of the configuration to the baseline, turned round for metrics that are
    better when lower; NaN on the "difference" scale, which has no ratio.
    """
    if effect.scale != "ratio":
        return float("nan")
    shift = effect.shift.mean
    return float(np.exp(shift if effect.series.better == "higher" else -shift))


def gate_failures(effects: Sequence[Effect], *, gate: str) -> list[Effect]:
    """Effects that break a gate: of the primary metrics, or of all if none is primary.

    The gate "worse" lets pass what is not shown to be worse, "not-equivalent" only what
    is shown to be equivalent.

    Raises
    ------
    ValueError
        When the gate is not one of these two.
    """
    if gate not in ("worse", "not-equivalent"):
        raise ValueError(f'gate is "{gate}"; it can be "worse" or "not-equivalent"')
    counting = [effect for effect in effects if effect.series.primary] or effects
    if gate == "worse":
        return [effect for effect in counting if effect.verdict is Verdict.WORSE]
    return [effect for effect in counting if effect.verdict is not Verdict.EQUIVALENT]


def estimate_effects(
    readings: Readings,
    baseline: str,
    *,
    differing: Mapping[str, Sequence[str]],
    looks: LookPlan | None = None,
    interleaved: bool = True,
) -> tuple[Effect, ...]:
    """The effect of every other configuration on every series, with its verdict.

    Parameters
    ----------
    readings
        Valid readings; a series or configuration without any is left out.
    baseline
        The configuration to compare with.
    differing
        The factors in which each configuration differs from the baseline.
    looks
        The looks of a study that was measured until decided; intervals then have the
        level of a look, and a verdict stands from the look at which it was reached.
    interleaved
        Whether visits of a round were made near each other in time; if not, there is a
        change but no interval, and no verdict.

    Returns
    -------
    tuple of Effect
        In the order of series, then configurations.

    Notes
    -----
    The interval is that of Student's t on the differences between the visits of one
    round. Primary series form one family for Holm's adjustment, the others another;
    without primary series all effects are one family.
    """
    if looks is not None:
        return _decide_by_looks(readings, baseline, differing, looks)
    return _decide_all(_estimate(readings, baseline, differing, CONFIDENCE, interleaved))


def _estimate(
    readings: Readings,
    baseline: str,
    differing: Mapping[str, Sequence[str]],
    confidence: float,
    interleaved: bool = True,
) -> list[Effect]:
    """Effects with their numbers and caveats, before the verdict."""
    summaries = summarise_visits(readings)
    base = readings.configurations.index(baseline)
    effects = []
    for s, series in enumerate(readings.series):
        sides = split_sides(summaries, s)
        for c, configuration in enumerate(readings.configurations):
            if c == base or c not in sides or base not in sides:
                continue
            pairing = pair(sides[c], sides[base], confidence, interleaved)
            if pairing is None:
                continue
            effects.append(
                _undecided(
                    readings.bench,
                    series,
                    summaries.scales[s],
                    (baseline, configuration),
                    pairing,
                    differing.get(configuration, ()),
                )
            )
    return effects


def _decide_by_looks(
    readings: Readings,
    baseline: str,
    differing: Mapping[str, Sequence[str]],
    looks: LookPlan,
) -> tuple[Effect, ...]:
    """Effects over all rounds, each with the verdict of the look that decided it."""
    rounds = int(readings.round_of.max(initial=0))
    effects = {_key(e): e for e in _estimate(readings, baseline, differing, looks.confidence)}
    decided: dict[tuple[Series, str], Effect] = {}
    for look in looks.reached(rounds):
        early = _estimate(readings.up_to_round(look), baseline, differing, looks.confidence)
        pending = [effect for effect in early if _key(effect) not in decided]
        for effect in _decide_all(pending, significance=looks.alpha):
            shown = effects[_key(effect)]
            effects[_key(effect)] = replace(
                shown, p_adjusted=effect.p_adjusted, more_rounds=effect.more_rounds
            )
            if effect.verdict is not Verdict.INCONCLUSIVE:
                decided[_key(effect)] = effect
    return tuple(
        replace(
            effect,
            verdict=decided[key].verdict if key in decided else Verdict.INCONCLUSIVE,
            beyond_margin=decided[key].beyond_margin if key in decided else False,
            caveats=effect.caveats + looks.caveats(rounds),
        )
        for key, effect in effects.items()
    )


def _key(effect: Effect) -> tuple[Series, str]:
    return effect.series, effect.configuration


def _undecided(
    bench: str,
    series: Series,
    scale: Scale,
    names: tuple[str, str],
    pairing: Pairing,
    differing: Sequence[str],
) -> Effect:
    """An effect with its numbers and caveats, before the verdict."""
    shift = pairing.shift
    change, low, high = (
        float(np.expm1(value)) if scale == "ratio" else value
        for value in (shift.mean, shift.low, shift.high)
    )
    baseline, configuration = names
    return Effect(
        bench=bench,
        series=series,
        baseline=baseline,
        configuration=configuration,
        scale=scale,
        change=change,
        low=low,
        high=high,
        shift=shift,
        p_adjusted=float("nan"),
        verdict=Verdict.INCONCLUSIVE,
        beyond_margin=False,
        rounds=shift.pairs,
        runs=pairing.runs,
        more_rounds=None,
        caveats=tuple(_caveats(series, scale, names, pairing, differing)),
    )


def _caveats(
    series: Series,
    scale: Scale,
    names: tuple[str, str],
    pairing: Pairing,
    differing: Sequence[str],
) -> list[Caveat]:
    baseline, configuration = names
    rounds = pairing.shift.pairs
    found = []
    if rounds == 0:
        found.append(caveats.not_interleaved())
    elif rounds == 1:
        found.append(caveats.one_visit())
    elif rounds < caveats.FEW_ROUNDS:
        found.append(caveats.few_rounds(rounds))
    if pairing.shift.sd == 0:
        found.append(caveats.no_spread())
    if pairing.unpaired:
        found.append(caveats.unpaired_rounds(pairing.unpaired, configuration, baseline))
    if len(differing) > 1:
        found.append(caveats.several_factors(differing, baseline))
    if scale == "difference":
        found.append(caveats.difference_scale(series.unit))
    return found


def _decide_all(effects: list[Effect], *, significance: float = SIGNIFICANCE) -> tuple[Effect, ...]:
    """Effects with their verdicts, adjusted within primary series and within the others."""
    p_values = np.array([effect.shift.p_value for effect in effects])
    primary = np.array([effect.series.primary for effect in effects], dtype=bool)
    adjusted = np.full(len(effects), np.nan)
    for family in (primary, ~primary):
        adjusted[family] = adjust_holm(p_values[family])
    return tuple(
        _decided(
            effect,
            # On the usual scale, on which a difference is found below 0.05.
            float(min(1.0, p * SIGNIFICANCE / significance)),
            significance / _holm_multiplier(effect.shift.p_value, p_values[primary == family]),
        )
        for effect, p, family in zip(effects, adjusted, primary, strict=True)
    )


def _holm_multiplier(p_value: float, family: np.ndarray) -> int:
    """By what Holm's procedure multiplies this p-value, given its rank."""
    return max(1, int(np.sum(family >= p_value)))


def log_margin(series: Series, scale: Scale) -> float:
    """The margin on the scale of the analysis; NaN where a share does not apply."""
    return float(np.log1p(series.margin)) if scale == "ratio" else float("nan")


def _decided(effect: Effect, p_adjusted: float, level: float) -> Effect:
    shift, series = effect.shift, effect.series
    margin = log_margin(series, effect.scale)
    verdict = decide(
        shift.low, shift.high, p_adjusted, margin, higher_is_better=series.better == "higher"
    )
    needed = None
    if verdict is Verdict.INCONCLUSIVE:
        needed = rounds_to_decide(shift.mean, shift.sd, margin, alpha=level)
    return replace(
        effect,
        p_adjusted=p_adjusted,
        verdict=verdict,
        beyond_margin=is_beyond(shift.low, shift.high, margin),
        more_rounds=None if needed is None else max(1, needed - effect.rounds),
    )
