"""Effects of effects: whether a change is as large in one place as in another."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import Readings, choose_scales
from ferocal.analysis.data.series import Scale, Series, change_of, margin_on_scale
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, Estimate, Setting, Shift, speed_factor
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.student import combine_errors, error_behind
from ferocal.analysis.inference.verdicts import CONFIDENCE, Verdict, judge
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Side:
    """An effect at one place: a configuration against its baseline for a series on a bench."""

    series: int
    bench: int
    configuration: int
    baseline: int


@dataclass(frozen=True)
class Pair:
    """Two effects that are to be compared; ``first_place`` and ``second_place`` name them."""

    first: Side
    second: Side
    first_place: str
    second_place: str


@dataclass(frozen=True)
class Difference:
    """Two effects of the same change, and the second over the first.

    ``estimate`` is the ratio of ratios, or the difference of differences, in the direction of
    the series of the first effect.
    """

    first_place: str
    second_place: str
    first: Effect
    second: Effect
    estimate: Estimate

    @property
    def series(self) -> Series:
        """The series by whose margin and direction it is judged."""
        return self.first.series

    @property
    def verdict(self) -> Verdict:
        """Whether the second effect is better or worse than the first."""
        return self.estimate.verdict


def compare_effects(
    readings: Readings, pairs: Sequence[Pair], setting: Setting
) -> tuple[Difference, ...]:
    """The differences of pairs of effects, those of which all four arms were read.

    Where the two series have opposite directions, the second is turned, so that what is compared
    is how many times as fast. All differences are one family. Within one bench both effects
    are taken from the rounds that they share, so that what a round has in common drops out.
    """
    contrasts, asked = [], []
    scales = choose_scales(readings)
    for pair in pairs:
        sign = _sign(readings, scales, pair)
        if sign is None:
            continue
        sides = (pair.second, pair.first)
        own = [_weights(side) for side in sides]
        # The first arm names the series that judges.
        whole = [*((a, -w) for a, w in own[1]), *((a, sign * w) for a, w in own[0])]
        asked.append(pair)
        contrasts.append(Contrast(tuple(_merged(whole)), "between"))
        contrasts += [
            Contrast(tuple(weights), f"alone {len(contrasts)} {n}") for n, weights in enumerate(own)
        ]
    found = judge_contrasts(readings, contrasts, setting) if contrasts else {}
    differences = []
    for n, pair in enumerate(asked):
        whole_estimate, second, first = (found.get(3 * n + k) for k in range(3))
        if whole_estimate is not None and first is not None and second is not None:
            differences.append(
                Difference(
                    pair.first_place,
                    pair.second_place,
                    _effect(readings, pair.first, first),
                    _effect(readings, pair.second, second),
                    whole_estimate,
                )
            )
    return tuple(differences)


def _sign(readings: Readings, scales: Sequence[Scale], pair: Pair) -> float | None:
    """Whether the second effect is turned; None where the two cannot be compared."""
    places = (pair.first.series, pair.second.series)
    series = [readings.series[place] for place in places]
    directions = [s.better for s in series]
    if "none" in directions or len({scales[place] for place in places}) > 1:
        return None
    if scales[places[0]] == "difference" and series[0].unit != series[1].unit:
        return None
    return 1.0 if directions[0] == directions[1] else -1.0


def _weights(side: Side) -> list[tuple[Arm, float]]:
    return [
        (Arm(side.series, side.bench, side.configuration), 1.0),
        (Arm(side.series, side.bench, side.baseline), -1.0),
    ]


def _merged(weights: Sequence[tuple[Arm, float]]) -> Iterator[tuple[Arm, float]]:
    """Arms that are in both effects, such as a common baseline, once."""
    total: dict[Arm, float] = {}
    for arm, weight in weights:
        total[arm] = total.get(arm, 0.0) + weight
    yield from ((arm, weight) for arm, weight in total.items() if weight)


def _effect(readings: Readings, side: Side, estimate: Estimate) -> Effect:
    return Effect(
        **vars(estimate),
        bench=readings.benches[side.bench],
        series=readings.series[side.series],
        baseline=readings.configurations[side.baseline],
        configuration=readings.configurations[side.configuration],
        control=False,
        caveats=(),
    )


def compare_independent(
    pairs: Sequence[tuple[Effect, Effect]],
    places: tuple[str, str],
    confidence: tuple[float, float] = (CONFIDENCE, CONFIDENCE),
) -> tuple[Difference, ...]:
    """The differences of effects that share nothing, such as those of two studies.

    ``confidence`` is the level of the intervals of each side. Errors add up, with the degrees of
    freedom of Welch (1947) and Satterthwaite (1946). Where an effect has no interval, the
    difference has none, and is no member of the family.
    """
    usable = [(a, b) for a, b in pairs if a.scale == b.scale]
    if not usable:
        return ()
    sides = list(zip(*usable, strict=True))
    errors = [[_variance(e, c) for e in s] for s, c in zip(sides, confidence, strict=True)]
    degrees = [[e.shift.degrees for e in side] for side in sides]
    error, freedom = combine_errors(*_arrays(errors[1], degrees[1], errors[0], degrees[0]))
    mean = np.array([b.shift.mean - a.shift.mean for a, b in usable])
    judged = judge(
        mean,
        error,
        freedom,
        margin=np.array([margin_on_scale(a.series, a.scale) for a, _ in usable]),
        directions=[a.series.better for a, _ in usable],
        families=["between"] * len(usable),
    )
    columns = (mean, *judged.interval, freedom, judged.p_adjusted, judged.family_size)
    rows = np.stack(columns, axis=1).tolist()
    return tuple(
        Difference(*places, a, b, _independent(a, b, row, verdict))
        for (a, b), row, verdict in zip(usable, rows, judged.verdict, strict=True)
    )


def _arrays(*columns: Sequence[float]) -> Iterator[np.ndarray]:
    return (np.array(column) for column in columns)


def _variance(effect: Effect, confidence: float) -> float:
    """The squared standard error of an effect, from an interval of this level."""
    shift = effect.shift
    return error_behind(shift.low, shift.high, shift.degrees, confidence=confidence) ** 2


def _independent(a: Effect, b: Effect, row: Sequence[float], verdict: Verdict) -> Estimate:
    mean, low, high, p_value, degrees, adjusted, family = row
    ends = (mean, low, high)
    change, lower, upper = (change_of(end, a.scale) for end in ends)
    known = {name: value for name, value in vars(a).items() if name in Estimate.__annotations__}
    return replace(
        Estimate(**known),
        change=change,
        low=lower,
        high=upper,
        shift=Shift(*ends, p_value, math.hypot(a.shift.sd, b.shift.sd), degrees),
        p_adjusted=adjusted,
        family_size=int(family),
        verdict=verdict,
        method=Method.NONE if math.isnan(low) else a.method,
        visits=a.visits + b.visits,
        base_visits=a.base_visits + b.base_visits,
        runs=a.runs + b.runs,
        more_rounds=None,
        noise_floor=None,
    )


def speeds(difference: Difference) -> tuple[float, float]:
    """How many times as fast the change makes it in both places; NaN for differences."""
    return speed_factor(difference.first), speed_factor(difference.second)
