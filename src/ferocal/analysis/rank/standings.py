"""Standings: ranks with what is not shown to differ sharing them, and chances of being first."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import Readings, choose_scales
from ferocal.analysis.data.series import Scale, Series, factor_of
from ferocal.analysis.inference.contrasts import METHODS, Method
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.judging import judge_contrasts
from ferocal.analysis.inference.student import error_behind
from ferocal.analysis.inference.verdicts import CONFIDENCE, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.analysis.rank.first import chances_of_first
from ferocal.analysis.rank.lineup import Contestant, Lineup, line_up, some_are_bounds
from ferocal.terms.frozen import dataclass


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

    ``estimates`` compare the first of every pair with the second, by their places among
    ``standings``; those of the other order are their opposites. ``verdicts`` says of every pair
    whether the first is better, worse or equal to the second, or that this is open. ``against`` is
    the place of the contestant to which values are relative, None for those in the unit.
    """

    series: Series
    scale: Scale
    standings: tuple[Standing, ...]
    estimates: Mapping[tuple[int, int], Estimate]
    verdicts: Mapping[tuple[int, int], Verdict]
    against: int | None = None

    @property
    def sources(self) -> tuple[Method, ...]:
        """What the comparisons of pairs rest on."""
        used = {estimate.method for estimate in self.estimates.values()}
        return tuple(method for method in METHODS if method in used)

    def label(self, place: int, across: str) -> str:
        """What the contestant at a place is called where "configurations" or "benches" compete."""
        standing = self.standings[place]
        return standing.bench if across == "benches" else standing.configuration


_TURNED = {Verdict.BETTER: Verdict.WORSE, Verdict.WORSE: Verdict.BETTER}


def rank_contestants(
    readings: Readings,
    series: int,
    contestants: Sequence[Contestant],
    setting: Setting,
    *,
    relative_to: int | None = None,
) -> Ranking | None:
    """Rank contestants by a series; None where fewer than two were read, or some as bounds only.

    All pairs are contrasts, as in a comparison, and one family (Holm 1979); those who compete are
    in the order of their levels, which these are the differences of. A rank lies between one more
    than those shown to be better and those not shown to be worse. ``relative_to`` is the
    contestant to which values are relative.
    """
    return rank_all(readings, [Contest(series, contestants, relative_to)], setting)[0]


class Contest(NamedTuple):
    """Who is ranked by which series, and who of them values are relative to, if they are."""

    series: int
    contestants: Sequence[Contestant]
    relative_to: int | None = None


def rank_all(
    readings: Readings, contests: Sequence[Contest], setting: Setting
) -> list[Ranking | None]:
    """The rankings of several contests, each as `rank_contestants` makes it alone."""
    scales = choose_scales(readings)
    lineups: dict[int, tuple[int, Lineup]] = {}
    for place, contest in enumerate(contests):
        if not some_are_bounds(readings, contest.series, contest.contestants):
            found = line_up(readings, contest.series, contest.contestants, setting, scales)
            if len(found.present) > 1:
                lineups[place] = contest.series, found
    estimates = dict(
        zip(lineups, _estimates(readings, list(lineups.values()), setting), strict=True)
    )
    return [
        _ranking(readings, lineups[place][1], *estimates[place], setting, contest.relative_to)
        if place in lineups
        else None
        for place, contest in enumerate(contests)
    ]


def _ranking(
    readings: Readings,
    found: Lineup,
    pairs: Mapping[tuple[int, int], Estimate],
    values: Mapping[int, Estimate],
    setting: Setting,
    relative_to: int | None,
) -> Ranking:
    """The order of those who were read, and which ranks each may have."""
    count = len(found.present)
    verdicts = {}
    for (a, b), estimate in pairs.items():
        verdicts[a, b] = estimate.verdict
        verdicts[b, a] = _TURNED.get(estimate.verdict, estimate.verdict)
    order = _order(found, verdicts)
    place_of = {n: place for place, n in enumerate(order)}
    chances = _chances(found, values, order, setting)
    base = None
    if relative_to is not None and relative_to in found.places:
        base = found.places.index(relative_to)
    standings = []
    for n in order:
        shown = [verdicts[n, other] for other in order if other != n]
        standings.append(
            Standing(
                readings.benches[found.present[n].bench],
                readings.configurations[found.present[n].configuration],
                *_value(found, n, values, pairs, base),
                1 + shown.count(Verdict.WORSE),
                count - shown.count(Verdict.BETTER),
                chances[n],
                int(found.visits[n]),
            )
        )
    return Ranking(
        found.series,
        found.scale,
        tuple(standings),
        {(place_of[a], place_of[b]): e for (a, b), e in pairs.items()},
        {(place_of[a], place_of[b]): v for (a, b), v in verdicts.items()},
        None if base is None else place_of[base],
    )


def value_contestants(
    readings: Readings, series: int, contestants: Sequence[Contestant], setting: Setting
) -> tuple[Standing, ...]:
    """Values with their intervals, without ranks: each is said to be between first and last."""
    found = line_up(readings, series, contestants, setting, choose_scales(readings))
    ((_, values),) = _estimates(readings, [(series, found)], setting, pairs=False)
    return tuple(
        Standing(
            readings.benches[c.bench],
            readings.configurations[c.configuration],
            *_value(found, n, values, {}, None),
            1,
            len(found.present),
            math.nan,
            int(found.visits[n]),
        )
        for n, c in enumerate(found.present)
    )


def _estimates(
    readings: Readings,
    lineups: Sequence[tuple[int, Lineup]],
    setting: Setting,
    *,
    pairs: bool = True,
) -> list[tuple[dict[tuple[int, int], Estimate], dict[int, Estimate]]]:
    """By lineup, of all pairs the first against the second, and of each its value."""
    asked: dict[tuple[int, tuple[int, ...]], Contrast] = {}
    for place, (series, found) in enumerate(lineups):
        arms = [Arm(series, c.bench, c.configuration) for c in found.present]
        offsets = [c.offset for c in found.present]
        for n, arm in enumerate(arms):
            family = f"value {place} {n}"
            asked[place, (n,)] = Contrast(((arm, 1.0),), family, offset=-offsets[n])
        for a, b in itertools.combinations(reversed(range(len(arms))), 2) if pairs else ():
            weights, offset = ((arms[a], 1.0), (arms[b], -1.0)), offsets[b] - offsets[a]
            asked[place, (a, b)] = Contrast(weights, f"rank {place}", offset=offset)
    judged = judge_contrasts(readings, list(asked.values()), setting, foresees=False)
    estimates: list[tuple[dict[tuple[int, int], Estimate], dict[int, Estimate]]]
    estimates = [({}, {}) for _ in lineups]
    for k, (place, who) in enumerate(asked):
        if len(who) == 1:
            estimates[place][1][who[0]] = judged[k]
        else:
            estimates[place][0][who[0], who[1]] = judged[k]
    return estimates


def _order(found: Lineup, verdicts: Mapping[tuple[int, int], Verdict]) -> list[int]:
    """The best level first, but never before one that is shown to be better."""
    order: list[int] = []
    for n in np.argsort(-found.sign * found.level, kind="stable").tolist():
        beaten = [k for k, other in enumerate(order) if verdicts[n, other] is Verdict.BETTER]
        order.insert(beaten[0] if beaten else len(order), n)
    return order


def _chances(
    found: Lineup, values: Mapping[int, Estimate], order: Sequence[int], setting: Setting
) -> list[float]:
    """The chances of being first; unknown where noise differs so that the order says another."""
    level = CONFIDENCE if setting.looks is None else setting.looks.confidence
    shifts = [values[n].shift for n in range(len(order))]
    errors = [error_behind(s.low, s.high, s.degrees, confidence=level) for s in shifts]
    degrees = np.array([s.degrees for s in shifts])
    chances = chances_of_first(found, np.array(errors), degrees)
    if math.isnan(chances[0]) or int(np.argmax(chances)) != order[0]:
        return [math.nan] * len(order)
    return chances


def _value(
    found: Lineup,
    n: int,
    values: Mapping[int, Estimate],
    pairs: Mapping[tuple[int, int], Estimate],
    base: int | None,
) -> tuple[float, float, float]:
    """The value of a contestant with the ends of its interval, relative to another if asked."""
    if base is None:
        shift = values[n].shift
        half = (shift.high - shift.low) / 2
        ends = (float(found.level[n]), float(found.level[n]) - half, float(found.level[n]) + half)
    elif n == base:
        ends = (0.0, 0.0, 0.0)
    else:
        sign = 1.0 if (n, base) in pairs else -1.0
        shift = pairs[(n, base) if sign > 0 else (base, n)].shift
        low, high = (shift.low, shift.high) if sign > 0 else (-shift.high, -shift.low)
        ends = (sign * shift.mean, low, high)
    value, low, high = (factor_of(e) if found.scale == "ratio" else float(e) for e in ends)
    return value, low, high
