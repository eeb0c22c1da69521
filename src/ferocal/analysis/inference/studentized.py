"""The studentized range: how far apart the extremes of several equal means are by chance."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from ferocal.analysis.data.segments import FloatArray

# Points of the quadrature over the range and over the standard deviation, and how far the first
# one reaches, in standard deviations.
_RANGE_POINTS, _SD_POINTS, _REACH = 96, 64, 8.0
_HALVINGS, _FEW_DEGREES = 30, 10


@lru_cache(maxsize=256)
def range_quantile(confidence: float, count: int, degrees: float) -> float:
    """The studentized range of so many means that is exceeded with 1 − ``confidence``.

    By quadrature of its definition (Student 1927, Errors of routine analysis, Biometrika 19,
    151-164; Lund and Lund 1983, Probabilities and upper quantiles for the studentized range,
    Applied Statistics 32, 204-210), to six digits.
    """
    low, high = 0.0, 4.0
    while range_chance(high, count, degrees) < confidence:
        low, high = high, 2 * high
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        if range_chance(middle, count, degrees) < confidence:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def range_chance(q: float, count: int, degrees: float) -> float:
    """The chance that the studentized range of so many means is smaller than ``q``."""
    sd, weight = _standard_deviations(degrees)
    return float(weight @ _normal_range(q * sd, count))


@lru_cache(maxsize=4)
def _legendre(points: int) -> tuple[FloatArray, FloatArray]:
    """Nodes and weights of the quadrature of Gauss and Legendre on −1 to 1."""
    nodes, weights = np.polynomial.legendre.leggauss(points)
    return nodes, weights


def _standard_deviations(degrees: float) -> tuple[FloatArray, FloatArray]:
    """Values of the estimated over the true SD, and the probability that each stands for."""
    nodes, weights = _legendre(_SD_POINTS)
    # Its logarithm is nearly normal, with a variance of 1 / (2 f); with few degrees the lower
    # tail falls like s to the power of f, and the upper one much faster.
    reach = _REACH / math.sqrt(2 * degrees)
    high = reach if degrees > _FEW_DEGREES else math.log1p(80.0 / degrees) / 2
    low = -max(reach, 20.0 / degrees)
    log = (low + high) / 2 + (high - low) / 2 * nodes
    density = degrees * log - degrees / 2 * np.exp(2 * log)
    weight = weights * np.exp(density - density.max())
    return np.exp(log), weight / weight.sum()


def _normal_range(width: FloatArray, count: int) -> FloatArray:
    """The chance that the range of so many standard normal values is below each width."""
    from scipy.special import ndtr

    nodes, weights = _legendre(_RANGE_POINTS)
    z = _REACH * nodes
    density = np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi)
    inside = ndtr(z)[None, :] - ndtr(z[None, :] - width[:, None])
    chance: FloatArray = count * _REACH * (inside ** (count - 1) * density) @ weights
    return np.minimum(chance, 1.0)
