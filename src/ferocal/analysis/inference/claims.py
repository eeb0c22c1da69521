"""Claims: whether readings support or refute what was said of them."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import replace
from enum import StrEnum

import numpy as np

from ferocal.analysis.data.readings import Readings, choose_scales, to_scale
from ferocal.analysis.data.series import Scale
from ferocal.analysis.inference.components import components_of
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Estimate, Setting
from ferocal.analysis.inference.families import adjust_holm
from ferocal.analysis.inference.judging import find_floor, judge_contrasts
from ferocal.analysis.inference.noise_floors import KNOWN_DEGREES, stated_floor
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.student import (
    chi_square_quantile,
    error_behind,
    t_cdf,
    t_quantile,
)
from ferocal.analysis.inference.verdicts import SIGNIFICANCE, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.terms.frozen import dataclass

# Equally likely parts of the distribution of a standard deviation.
_STRIPS = 400


class ClaimVerdict(StrEnum):
    """What readings say of a claim."""

    SUPPORTED = "supported"
    REFUTED = "refuted"
    UNDECIDED = "undecided"


@dataclass(frozen=True)
class ClaimTest:
    """A claim as a question: whether a contrast lies between two ends, one of them perhaps open.

    ``low`` and ``high`` are on the scale of the analysis. With ``noise`` they are what 95 of 100
    single runs of the first arm vary by, to both sides, as its noise floor has it.
    """

    weights: tuple[tuple[Arm, float], ...]
    low: float
    high: float
    noise: bool = False

    @property
    def one_sided(self) -> bool:
        """Whether one of its ends is open; noise is to both sides."""
        return not self.noise and (math.isinf(self.low) or math.isinf(self.high))


@dataclass(frozen=True)
class JudgedClaim:
    """A claim as it was judged.

    ``mean``, ``low`` and ``high`` are on the scale of the analysis; of a one-sided claim both ends
    are one-sided 95 % bounds, else they are the 95 % interval. All are NaN where nothing was read.
    ``ends`` are those of the claim. ``more_rounds`` is what an undecided one is expected to need,
    None where that is unknown or beyond reach.
    """

    verdict: ClaimVerdict
    scale: Scale
    mean: float
    low: float
    high: float
    ends: tuple[float, float]
    p_adjusted: float
    estimate: Estimate | None
    more_rounds: int | None = None


def judge_claims(
    readings: Readings, tests: Sequence[ClaimTest], setting: Setting
) -> list[JudgedClaim]:
    """The verdicts on the claims of one study, which are one family (Holm 1979).

    A claim is supported where its contrast is shown to lie between its ends, and refuted where it
    is shown to lie beyond one: each end by a one-sided test at 5 %, both ends of a claim with
    two ends by halves of that where they refute (compare Schuirmann 1987, Journal of
    Pharmacokinetics and Biopharmaceutics 15, 657-680). That the noise of runs was estimated, too,
    is part of the tests of claims on it. In a study that is measured until decided
    the level is that of one of its looks.
    """
    looks = setting.looks
    level = SIGNIFICANCE if looks is None else 1 - looks.confidence
    plain = replace(setting, looks=None)
    contrasts = [Contrast(test.weights, f"claim {n}") for n, test in enumerate(tests)]
    found = judge_contrasts(readings, contrasts, plain)
    scales = choose_scales(readings)
    known = [_known_of(readings, scales, t, found.get(n), setting) for n, t in enumerate(tests)]
    chances = np.array([min(k.chances) for k in known], dtype=np.float64)
    adjusted, _ = adjust_holm(chances)
    return [
        k.judge(float(p), level, len(tests)) for k, p in zip(known, adjusted.tolist(), strict=True)
    ]


@dataclass(frozen=True)
class _Known:
    """A claim with its contrast: where that lies, with its error, or surely between two ends."""

    test: ClaimTest
    scale: Scale
    ends: tuple[float, float]
    estimate: Estimate | None
    mean: float = math.nan
    error: float = math.nan
    degrees: float = math.nan
    sure: tuple[float, float] | None = None
    band_degrees: float = math.inf
    shares_floor: bool = False

    @functools.cached_property
    def chances(self) -> tuple[float, float]:
        """p-values of what speaks for the claim, and of what speaks against it; else NaN."""
        low, high = self.ends
        if self.sure is not None:
            within = low <= self.sure[0] and self.sure[1] <= high
            beyond = self.sure[0] > high or self.sure[1] < low
            return float(not within), float(not beyond)
        if math.isnan(self.error) or math.isnan(low):
            return math.nan, math.nan
        if self.test.noise and self.error > 0:
            outside = self._within_estimated()
            return outside, min(1.0, 2 * (1 - outside))
        refuting = min(self._above(high), self._below(low))
        ends = 1 if self.test.one_sided else 2
        return max(self._below(high), self._above(low)), min(1.0, ends * refuting)

    def _within_estimated(self) -> float:
        """The p-value of being within a band whose own width was estimated.

        The generalized p-value (Tsui and Weerahandi 1989, Generalized p-values in significance
        testing of hypotheses in the presence of nuisance parameters, Journal of the American
        Statistical Association 84, 602-607): the chance of being outside, of means and standard
        deviations that are drawn as what was found has them. Where the same noise floor gives the
        band and the error of the mean, they are drawn together. Simulated at the edge of the band,
        at most 5 % are called within, with 4 to 30 degrees of freedom.
        """
        draws = (np.arange(_STRIPS) + 0.5) / _STRIPS
        scale = np.sqrt(self.band_degrees / chi_square_quantile(self.band_degrees, draws))
        error = self.error * scale if self.shares_floor else np.full(_STRIPS, self.error)
        degrees = KNOWN_DEGREES if self.shares_floor else self.degrees
        reach = self.ends[1] * scale
        inside = t_cdf(degrees, (reach - self.mean) / error) - t_cdf(
            degrees, (-reach - self.mean) / error
        )
        return float(np.clip(1 - np.mean(inside), 0.0, 1.0))

    def _below(self, end: float) -> float:
        """The p-value of being below an end, which everything is of none."""
        if math.isinf(end):
            return 0.0 if end > 0 else 1.0
        if self.error == 0:
            return float(self.mean >= end)
        return float(t_cdf(self.degrees, (self.mean - end) / self.error))

    def _above(self, end: float) -> float:
        return replace(self, mean=-self.mean)._below(-end)

    def judge(self, adjusted: float, level: float, claims: int) -> JudgedClaim:
        """The verdict at a level of each test, of so many."""
        supports, refutes = self.chances
        verdict = ClaimVerdict.UNDECIDED
        if adjusted < level:
            verdict = ClaimVerdict.SUPPORTED if supports < refutes else ClaimVerdict.REFUTED
        low, high = self.sure or (math.nan, math.nan)
        if not math.isnan(self.error):
            tail = level if self.test.one_sided else level / 2
            reach = self.error * float(t_quantile(self.degrees, 1 - tail))
            low, high = self.mean - reach, self.mean + reach
        more = None
        if verdict is ClaimVerdict.UNDECIDED:
            more = self._more_rounds(level / claims / (1 if self.test.one_sided else 2))
        return JudgedClaim(
            verdict, self.scale, self.mean, low, high, self.ends, adjusted, self.estimate, more
        )

    def _more_rounds(self, level: float) -> int | None:
        """How many further rounds would decide it if the mean stayed where it is."""
        e = self.estimate
        if e is None or e.method not in (Method.PAIRED, Method.VISITS) or math.isnan(self.error):
            return None
        known = [abs(self.mean - end) for end in self.ends if math.isfinite(end)]
        rounds = np.arange(2, MOST_ROUNDS + 1)
        reach = t_quantile(rounds - 1.0, 1 - level) * e.shift.sd / np.sqrt(rounds)
        enough = rounds[reach < min(known, default=0.0)]
        present = e.rounds or e.visits
        return max(1, int(enough[0]) - present) if len(enough) else None


def _known_of(
    readings: Readings,
    scales: tuple[Scale, ...],
    test: ClaimTest,
    estimate: Estimate | None,
    setting: Setting,
) -> _Known:
    """What is known of a claim: an estimate, or where bounds allow it to lie."""
    arm = test.weights[0][0]
    ends = (test.low, test.high)
    degrees = math.inf
    if test.noise:
        sd, degrees = _noise_of_a_run(readings, scales, arm, setting)
        reach = sd * float(t_quantile(KNOWN_DEGREES, 0.975))
        ends = (-reach, reach)
    known = _Known(test, scales[arm.series], ends, estimate, band_degrees=degrees)
    if estimate is None:
        alone = len(test.weights) == 1
        return replace(known, sure=_bounds_of(readings, scales, arm)) if alone else known
    shift = estimate.shift
    if estimate.method is Method.BOUND:
        sure = None if estimate.verdict is Verdict.SEEN_ONCE else (shift.low, shift.high)
        return replace(known, sure=sure)
    error = error_behind(shift.low, shift.high, shift.degrees)
    shares = estimate.method in (Method.FLOOR, Method.STATED)
    return replace(known, mean=shift.mean, error=error, degrees=shift.degrees, shares_floor=shares)


def _bounds_of(
    readings: Readings, scales: tuple[Scale, ...], arm: Arm
) -> tuple[float, float] | None:
    """Where an arm lies of which only bounds to one side were read."""
    rows = arm.select(readings)
    sides = set(rows.bound.tolist())
    if len(sides) != 1 or 0 in sides:
        return None
    edge = float(to_scale(rows, scales).mean())
    return (edge, math.inf) if sides == {1} else (-math.inf, edge)


def _noise_of_a_run(
    readings: Readings, scales: tuple[Scale, ...], arm: Arm, setting: Setting
) -> tuple[float, float]:
    """The standard deviation of single runs, and its degrees of freedom; NaN where unknown."""
    floor = find_floor(readings.numbers, arm.series, arm.bench, scales, setting)
    if floor is None:
        value = arm.select(readings.numbers).value
        middle = float(value.mean()) if len(value) else math.nan
        floor = stated_floor(readings.series[arm.series], scales[arm.series], middle)
    if floor is None or floor.scale != scales[arm.series]:
        return math.nan, math.nan
    parts = components_of(floor)
    runs = 0.0 if math.isnan(parts.run_variance) else parts.run_variance
    return math.sqrt(parts.visit_variance + runs), float(floor.degrees)
