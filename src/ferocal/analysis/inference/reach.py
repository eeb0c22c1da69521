"""Where the axes of figures end: what is far beyond everything else is not on them."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.verdicts import Verdict

if TYPE_CHECKING:
    from ferocal.analysis.factors.results import Judged
    from ferocal.analysis.inference.effects import Effect

# The ratios at which an axis may end.
_ENDS = (1.02, 1.05, 1.1, 1.2, 1.3, 1.5, 2.0, 3.0, 5.0, 10.0, 30.0, 100.0, 1000.0)
# So much of what is drawn has its centre on the axis, and what is not much further; the rest is an
# arrow at its end.
_ON_AXIS, _FURTHER = 0.8, 1.7
# The shortest side shows so many margins.
_MARGINS = 1.5
# A value that is so many times the next smaller one would press all others together.
_FAR = 5.0


class Reach(NamedTuple):
    """An interval with its centre and the margin, as logarithms of ratios, better to the right.

    ``low`` and ``high`` are NaN where no interval is known.
    """

    low: float
    mean: float
    high: float
    margin: float


def reach_of(estimate: Effect | Judged) -> Reach | None:
    """The gain of a change, better to the right; None where it is no ratio or no way is better."""
    shift, better = estimate.shift, estimate.series.better
    if math.isnan(shift.mean) or estimate.scale != "ratio" or better == "none":
        return None
    known = not math.isnan(shift.low) and estimate.verdict is not Verdict.SEEN_ONCE
    ends = (shift.low, shift.mean, shift.high) if known else (math.nan, shift.mean, math.nan)
    low, mean, high = ends if better == "higher" else [-end for end in reversed(ends)]
    return Reach(low, mean, high, margin_on_scale(estimate.series, "ratio"))


def ratio_ends(reaches: Sequence[Reach]) -> tuple[float, float]:
    """The ends of an axis of ratios on which intervals are drawn, as logarithms.

    It ends at the same ratio to both sides, or earlier where nothing reaches that far.
    """
    centres = sorted(abs(r.mean) for r in reaches if math.isfinite(r.mean))
    margin = max((r.margin for r in reaches if math.isfinite(r.margin)), default=0.0)
    place = math.ceil(_ON_AXIS * len(centres))
    wanted = centres[place - 1] if centres else 0.0
    for centre in centres[place:]:
        wanted = centre if centre <= _FURTHER * wanted else wanted
    furthest = _end(max(wanted, _MARGINS * margin))
    worse, better = (
        min(furthest, _end(max(_furthest(ends), _MARGINS * margin)))
        for ends in ((-r.low for r in reaches), (r.high for r in reaches))
    )
    return -worse, better


def _furthest(ends: Iterable[float]) -> float:
    return max((end for end in ends if not math.isnan(end)), default=0.0)


def _end(reach: float) -> float:
    """The logarithm of the nearest ratio at which an axis may end, above a reach."""
    return next((math.log(end) for end in _ENDS if math.log(end) >= reach), math.log(_ENDS[-1]))


def value_end(values: Iterable[float]) -> float:
    """Where an axis of values that begins at zero ends, so that the smaller ones can be seen.

    Values that are several times as large as all others are beyond it.
    """
    ordered = sorted(v for v in values if math.isfinite(v) and v > 0)
    if not ordered:
        return 1.0
    for n in range(len(ordered) - 1, len(ordered) // 2 - 1, -1):
        if n == 0 or ordered[n] < _FAR * ordered[n - 1]:
            return ordered[n]
    return ordered[-1]
