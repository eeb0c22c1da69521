"""Scaling: what more of a resource gives, against what it would give at best."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.factors.fitting import Asked, Attribution
from ferocal.analysis.factors.results import Scaling, ScalingStep

# Two amounts fit any serial share.
FEWEST_AMOUNTS = 3


def serial_share(amounts: Sequence[float], speeds: FloatArray) -> tuple[float, FloatArray] | None:
    """The serial share of a workload with its gradient; None below three amounts.

    Parameters
    ----------
    amounts
        How much of the resource there was, the smallest first.
    speeds
        Logarithms of the speed with the other amounts, relative to that with the first.

    Notes
    -----
    With n of a resource the time is a + b / n (Amdahl 1967, Validity of the single processor
    approach, AFIPS 30, 483-485): a straight line over 1 / n through the relative times, by least
    squares; the share is a / (a + b), its error by the propagation of that of the speeds
    (JCGM 100:2008, 5.2.2), for which the gradient makes a contrast of them.
    """
    if len(amounts) < FEWEST_AMOUNTS:
        return None
    inverse = 1 / np.array(amounts)
    step = 1e-5
    gradient = [
        (_share(inverse, speeds + step * unit) - _share(inverse, speeds - step * unit)) / (2 * step)
        for unit in np.eye(len(speeds))
    ]
    return _share(inverse, speeds), np.array(gradient)


def _share(inverse: FloatArray, speeds: FloatArray) -> float:
    times = np.exp(-np.r_[0.0, speeds])
    slope, fixed = np.polyfit(inverse, times, 1)
    return float(fixed / (fixed + slope))


def find_scaling(study: Attribution) -> list[Scaling]:
    """How series scale with factors of which levels are amounts."""
    return [
        made
        for factor, amounts in study.setting.amounts.items()
        for n in study.main_places
        if (made := _scale(study, n, factor, amounts)) is not None
    ]


def _scale(study: Attribution, n: int, factor: str, amounts: Mapping[str, float]) -> Scaling | None:
    fit, series = study.fits[n], study.readings.series[n]
    levels = [v for v in fit.model.design.factors.get(factor, ()) if v in amounts]
    if len(levels) < 2 or study.scales[n] != "ratio" or n not in study.shown:
        return None
    if factor in series.per:
        return None  # it is per unit already
    levels.sort(key=lambda level: amounts[level])
    first, *others = levels
    base = fit.model.main(factor, first)
    contrasts = np.array([fit.model.main(factor, level) - base for level in others])
    if not all(fit.model.determines(weights) for weights in contrasts):
        return None
    ideal = [math.log(amounts[level] / amounts[first]) for level in others]
    asked = [
        Asked(n, fit, weights, f"scaling {n}", shift, turned=True)
        for weights, shift_to in zip(contrasts, ideal, strict=True)
        for shift in (0.0, shift_to)
    ]
    judged = study.judge(asked)
    every = [amounts[level] for level in levels]
    share = half = math.nan
    found = serial_share(every, np.array([j.mean for j in judged[::2]]))
    if found is not None:
        share, gradient = found
        (whole,) = study.judge([Asked(n, fit, gradient @ contrasts, "serial", turned=True)])
        half = (whole.shift.high - whole.shift.low) / 2
    return Scaling(
        series, factor, amounts[first], first,
        tuple(
            ScalingStep(level, amounts[level], judged[2 * k], judged[2 * k + 1])
            for k, level in enumerate(others)
        ),
        share, half,
    )  # fmt: skip
