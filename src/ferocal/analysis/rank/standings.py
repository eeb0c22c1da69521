"""Standings: ranks with what is not shown to differ sharing them, and chances of being first."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Scale, Series, factor_of, margin_on_scale
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.inference.studentized import range_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.rank.lineup import Contestant, Lineup, line_up, some_are_bounds

_DRAWS = 10_000


@dataclass(frozen=True)
class Standing:
    """A contestant with its value (in the unit, or an index) and rank.

    Those that are not shown to differ from it share its rank: it lies between ``rank_best`` and
    ``rank_worst``. ``chance`` is that of being the best of all; ``low``, ``high`` and
    ``chance`` are NaN where the noise between visits is unknown.
    """

    bench: str
    configuration: str
    value: float
    low: float
    high: float
    rank_best: int
    rank_worst: int
    chance: float
    visits: int


@dataclass(frozen=True)
class Ranking:
    """All contestants by one metric or composite, the best first.

    ``verdicts`` says of every pair whether the first is better, worse or equal to the second, or
    that this is open, by their places among ``standings``. ``in_rounds`` says that all pairs
    come from common rounds (Tukey and Kramer), else they were adjusted after Holm. ``against`` is
    the place of the contestant to which values are relative, None for those in the unit.
    """

    series: Series
    scale: Scale
    standings: tuple[Standing, ...]
    verdicts: Mapping[tuple[int, int], Verdict]
    in_rounds: bool
    against: int | None = None

    def label(self, place: int, across: str) -> str:
        """What the contestant at a place is called where "configurations" or "benches" compete."""
        standing = self.standings[place]
        return standing.bench if across == "benches" else standing.configuration


def rank_contestants(
    readings: Readings,
    series: int,
    contestants: Sequence[Contestant],
    setting: Setting,
    *,
    confidence: float = CONFIDENCE,
    relative_to: int | None = None,
) -> Ranking | None:
    """Rank contestants by a series; None where fewer than two were read, or some as bounds only.

    All pairs are compared simultaneously. Where all were visited in common rounds, these are blocks
    and the variance is pooled (Tukey 1953, The problem of multiple comparisons; Kramer 1956,
    Biometrics 12, 307-310); elsewhere the pairs are contrasts of visits, adjusted after Holm.
    A rank lies between one more than those shown to be better and those not shown to be worse.
    ``relative_to`` is the contestant to which values are relative.
    """
    if some_are_bounds(readings, series, contestants):
        return None
    found = line_up(readings, series, contestants, setting)
    if len(found.present) < 2:
        return None
    pairs = _from_rounds(found, confidence) if found.table is not None else None
    in_rounds = pairs is not None
    if pairs is None:
        pairs = _from_contrasts(readings, series, contestants, found, setting)
    order = sorted(range(len(found.present)), key=lambda n: -found.turned[n])
    verdicts = {
        (a, b): pairs[order[a], order[b]]
        for a in range(len(order))
        for b in range(len(order))
        if a != b
    }
    chances = _chances(found)
    standings = []
    for place, n in enumerate(order):
        shown = [verdicts[place, other] for other in range(len(order)) if other != place]
        value, low, high = _value(found, n, confidence, relative_to)
        standings.append(
            Standing(
                bench=readings.benches[found.present[n].bench],
                configuration=readings.configurations[found.present[n].configuration],
                value=value,
                low=low,
                high=high,
                rank_best=1 + shown.count(Verdict.WORSE),
                rank_worst=len(order) - shown.count(Verdict.BETTER),
                chance=chances[n],
                visits=int(found.visits[n]),
            )
        )
    against = None
    if relative_to is not None and relative_to in found.places:
        against = order.index(found.places.index(relative_to))
    return Ranking(
        readings.series[series], found.scale, tuple(standings), verdicts,
        in_rounds, against,
    )  # fmt: skip


def value_contestants(
    readings: Readings,
    series: int,
    contestants: Sequence[Contestant],
    setting: Setting,
    *,
    confidence: float = CONFIDENCE,
) -> tuple[Standing, ...]:
    """Values with their intervals, without ranks: each is said to be between first and last."""
    found = line_up(readings, series, contestants, setting)
    count = len(found.present)
    return tuple(
        Standing(
            readings.benches[c.bench],
            readings.configurations[c.configuration],
            *_value(found, n, confidence, None),
            1,
            count,
            math.nan,
            int(found.visits[n]),
        )
        for n, c in enumerate(found.present)
    )


def _from_rounds(found: Lineup, confidence: float) -> dict[tuple[int, int], Verdict] | None:
    """Verdicts of all pairs from common rounds."""
    assert found.table is not None
    variance, degrees = found.pooled
    rounds, count = found.table.shape
    centre = found.sign * found.table.mean(axis=0)
    if variance == 0 and not found.fixed.all():
        return None  # no spread, and no step that says how much is behind it
    error = math.sqrt(2 * variance / rounds)
    apart = range_quantile(confidence, count, degrees) / math.sqrt(2)
    each = float(t_quantile(degrees, 0.5 + confidence / 2))
    margin = margin_on_scale(found.series, found.scale)
    verdicts = {}
    for a in range(count):
        for b in range(count):
            both = max(error, math.hypot(found.fixed[a], found.fixed[b]))
            change = float(centre[a] - centre[b])
            verdicts[a, b] = _verdict(change, apart * both, each * both, margin)
    return verdicts


def _verdict(change: float, apart: float, half: float, margin: float) -> Verdict:
    """The verdict on a difference that is to be beyond ``apart``, with its own half width."""
    if abs(change) + half < margin:
        return Verdict.EQUIVALENT
    if abs(change) <= apart:
        return Verdict.INCONCLUSIVE
    return Verdict.BETTER if change > 0 else Verdict.WORSE


_TURNED = {Verdict.BETTER: Verdict.WORSE, Verdict.WORSE: Verdict.BETTER}


def _from_contrasts(
    readings: Readings,
    series: int,
    contestants: Sequence[Contestant],
    found: Lineup,
    setting: Setting,
) -> dict[tuple[int, int], Verdict]:
    """Verdicts of all pairs as contrasts, adjusted after Holm."""
    if any(c.offset for c in contestants):
        readings = _shifted(readings, series, contestants)
    asked = [(a, b) for a in range(len(found.present)) for b in range(a)]
    contrasts = []
    for pair in asked:
        arms = [Arm(series, found.present[n].bench, found.present[n].configuration) for n in pair]
        contrasts.append(Contrast(((arms[0], 1.0), (arms[1], -1.0)), "rank"))
    judged = judge_contrasts(readings, contrasts, setting)
    verdicts = {}
    for number, (a, b) in enumerate(asked):
        estimate = judged.get(number)
        verdict = Verdict.INCONCLUSIVE if estimate is None else estimate.verdict
        verdicts[a, b], verdicts[b, a] = verdict, _TURNED.get(verdict, verdict)
    return verdicts


def _shifted(readings: Readings, series: int, contestants: Sequence[Contestant]) -> Readings:
    """Readings of a series with the offsets of the contestants in them."""
    value = readings.value.copy()
    for c in contestants:
        rows = readings.series_of == series
        rows &= (readings.bench_of == c.bench) & (readings.configuration_of == c.configuration)
        value[rows] *= factor_of(c.offset)
    return replace(readings, value=value)


def _chances(found: Lineup) -> list[float]:
    """For each contestant the chance of being the best of all.

    The share of draws of all true values in which it is, each drawn from its Student
    distribution around what was found; in common rounds with a common variance.
    """
    count = len(found.present)
    chance = np.random.default_rng([count, _DRAWS])
    normal = chance.standard_normal((_DRAWS, count))
    if found.table is not None:
        variance, degrees = found.pooled
        centre = found.sign * found.table.mean(axis=0)
        wide = np.sqrt(degrees / chance.chisquare(degrees, (_DRAWS, 1)))
        error = np.full(count, math.sqrt(variance / len(found.table)))
    else:
        centre, error = found.turned, found.error
        if np.isnan(error).any():
            return [math.nan] * count
        wide = np.sqrt(found.degrees / chance.chisquare(found.degrees, (_DRAWS, count)))
    drawn = centre + np.maximum(error, found.fixed) * wide * normal
    if not np.maximum(error, found.fixed).any():
        return [math.nan] * count
    wins = np.bincount(drawn.argmax(axis=1), minlength=count)
    return [float(w) for w in wins / _DRAWS]


def _value(
    found: Lineup, n: int, confidence: float, relative_to: int | None
) -> tuple[float, float, float]:
    """The value of a contestant with the ends of its interval."""
    ratio = found.scale == "ratio"
    if relative_to is None or relative_to not in found.places:
        error = max(float(found.error[n]), float(found.fixed[n]))
        half = error * float(t_quantile(found.degrees[n], 0.5 + confidence / 2))
        ends = (found.centre[n], found.centre[n] - half, found.centre[n] + half)
    else:
        base = found.places.index(relative_to)
        ends = _against(found, n, base, confidence)
    value, low, high = (factor_of(e) if ratio else float(e) for e in ends)
    return value, low, high


def _against(found: Lineup, n: int, base: int, confidence: float) -> tuple[float, float, float]:
    """A contestant relative to another, with the ends of the interval of that."""
    if n == base:
        return 0.0, 0.0, 0.0
    if found.table is not None:
        # Of the rounds of these two alone, whose differences may vary otherwise than others.
        apart = found.table[:, n] - found.table[:, base]
        mean, degrees = float(apart.mean()), len(apart) - 1.0
        error = float(np.std(apart, ddof=1)) / math.sqrt(len(apart))
    else:
        mean = float(found.centre[n] - found.centre[base])
        squares = found.error[[n, base]] ** 2
        error = math.sqrt(float(squares.sum()))
        degrees = math.nan
        if error > 0:
            degrees = float(squares.sum() ** 2 / np.sum(squares**2 / found.degrees[[n, base]]))
    half = max(error, math.hypot(found.fixed[n], found.fixed[base]))
    half *= float(t_quantile(degrees, 0.5 + confidence / 2))
    return mean, mean - half, mean + half
