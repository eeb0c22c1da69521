"""Contrasts of which a side is known as a bound only (">38000"): censored readings.

A bound enters no mean. It decides where everything that it allows lies on one side of what the
other side can be.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import Readings, summarise_visits, to_scale
from ferocal.analysis.data.series import Scale, change_of
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Estimate, Shift
from ferocal.analysis.inference.noise_floors import KNOWN_DEGREES, NoiseFloor, summary_variance
from ferocal.analysis.inference.student import t_quantile
from ferocal.analysis.inference.verdicts import CONFIDENCE, Verdict
from ferocal.analysis.inference.weights import Arm, Contrast
from ferocal.terms.frozen import dataclass


class Span(NamedTuple):
    """From where to where an arm can be, on the scale of the analysis.

    It is ``sure`` if that rests on spread that was seen or stated.
    """

    low: float
    high: float
    sure: bool


@dataclass(frozen=True)
class BoundJudge:
    """What is needed to judge a contrast with a bound.

    ``floor_of`` and ``stated_of`` give how much visits to an arm vary, where its own do not
    show it.
    """

    readings: Readings
    scales: tuple[Scale, ...]
    floor_of: Callable[[int, int], NoiseFloor | None]
    stated_of: Callable[[Arm], float | None]

    def judge(self, contrast: Contrast, margin: float, better: str) -> Estimate | None:
        """The estimate of a contrast of two arms, None if neither side is a bound or is empty."""
        if [weight for _, weight in contrast.weights] != [1.0, -1.0]:
            return None
        arms = [arm for arm, _ in contrast.weights]
        rows = [self._rows(arm) for arm in arms]
        if any(not len(r.value) for r in rows) or not any(r.bound.all() for r in rows):
            return None
        here, there = (self._span(arm, r) for arm, r in zip(arms, rows, strict=True))
        low, high = here.low - there.high, here.high - there.low
        counts = [(len(np.unique(r.visit_of)), len(np.unique(r.run_of))) for r in rows]
        sure = here.sure and there.sure
        verdict = _verdict(low, high, better) if sure else Verdict.SEEN_ONCE
        return self._estimate(contrast, (low, high), verdict, margin, counts)

    def _rows(self, arm: Arm) -> Readings:
        """The numbers of an arm if it has some, else its bounds."""
        rows = arm.select(self.readings)
        return rows.numbers if (rows.bound == 0).any() else rows

    def _span(self, arm: Arm, rows: Readings) -> Span:
        scaled = to_scale(rows, self.scales)
        if rows.bound.all():
            if len(set(rows.bound.tolist())) > 1:
                return Span(-math.inf, math.inf, False)
            edge = float(scaled.mean())
            # What a bound allows is all beyond it, however visits vary.
            return Span(edge, math.inf, True) if rows.bound[0] > 0 else Span(-math.inf, edge, True)
        centres = summarise_visits(rows, self.scales)
        middle, visits = float(centres.centre.mean()), len(centres.centre)
        width = rows.width / rows.value if self.scales[arm.series] == "ratio" else rows.width
        reach = float(width.mean())
        sd, degrees = self._spread(arm, centres.centre, float(centres.runs.mean()))
        if sd is None:
            return Span(middle - reach, middle + reach, False)
        reach += float(t_quantile(degrees, 0.5 + CONFIDENCE / 2)) * sd / math.sqrt(visits)
        return Span(middle - reach, middle + reach, True)

    def _spread(self, arm: Arm, centres: np.ndarray, runs: float) -> tuple[float | None, float]:
        """The standard deviation of visits to an arm, and its degrees of freedom."""
        if len(centres) > 1 and np.ptp(centres) > 0:
            return float(np.std(centres, ddof=1)), len(centres) - 1.0
        floor = self.floor_of(arm.series, arm.bench)
        if floor is not None:
            variance, degrees = summary_variance(floor, runs)
            return math.sqrt(variance), degrees
        return self.stated_of(arm), KNOWN_DEGREES

    def _estimate(
        self,
        contrast: Contrast,
        ends: tuple[float, float],
        verdict: Verdict,
        margin: float,
        counts: Sequence[tuple[int, int]],
    ) -> Estimate:
        low, high = ends
        scale = self.scales[contrast.first.series]
        bound = ">" if math.isinf(high) and math.isfinite(low) else "<"
        edge = low if bound == ">" else high
        if math.isinf(low) and math.isinf(high):
            bound, edge = "", math.nan
        nothing = math.nan
        return Estimate(
            scale=scale,
            method=Method.BOUND,
            change=change_of(edge, scale),
            low=change_of(low, scale) if math.isfinite(low) else low,
            high=change_of(high, scale) if math.isfinite(high) else high,
            shift=Shift(edge, low, high, nothing, nothing, nothing),
            p_adjusted=nothing,
            family_size=0,
            verdict=verdict,
            beyond_margin=verdict in (Verdict.BETTER, Verdict.WORSE) and abs(edge) > margin,
            rounds=0,
            visits=counts[0][0],
            base_visits=counts[1][0],
            runs=counts[0][1] + counts[1][1],
            base_runs=counts[1][1],
            unpaired=0,
            more_rounds=None,
            out_of_reach=False,
            noise_floor=None,
            bound=bound or None,
        )


def _verdict(low: float, high: float, better: str) -> Verdict:
    """The verdict if the difference is somewhere between two ends, of which one is infinite."""
    if better == "none":
        return Verdict.NOT_JUDGED
    if low > 0 or high < 0:
        return Verdict.BETTER if (low > 0) == (better == "higher") else Verdict.WORSE
    return Verdict.INCONCLUSIVE
