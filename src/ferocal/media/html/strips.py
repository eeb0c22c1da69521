"""Small intervals in the cells of a grid, all on one axis of ratios."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ferocal.documents.blocks import Strip
from ferocal.terms.numbers import significant

# The ratios at which an axis may end.
_ENDS = (1.02, 1.05, 1.1, 1.2, 1.3, 1.5, 2.0, 3.0, 5.0, 10.0, 30.0, 100.0, 1000.0)
# So much of what is drawn has its centre on the axis; the rest is an arrow at its end.
_ON_AXIS = 0.8
# The shortest side shows so many margins.
_MARGINS = 1.5
# The share of a cell that is left free on either side of the axis.
_FREE = 0.07


@dataclass(frozen=True)
class Drawn:
    """Where the interval, its centre and the margin are, in per cent of a cell.

    ``beyond`` is "left" or "right" where the centre is off the axis, ``mean`` its logarithm.
    """

    mean: float
    low: float
    high: float
    centre: float
    band: tuple[float, float] | None
    beyond: str


@dataclass(frozen=True)
class StripAxis:
    """An axis of ratios from ``1 / worse`` to ``better``, as logarithms in ``low`` and ``high``."""

    low: float
    high: float

    @property
    def ends(self) -> tuple[str, str]:
        """What the ends of the axis stand for, such as "×1.1"."""
        return tuple(f"×{significant(math.exp(abs(end)), 2)}" for end in (self.low, self.high))  # type: ignore[return-value]

    @property
    def zero(self) -> float:
        """Where no change is."""
        return self.place(0.0)

    def place(self, value: float) -> float:
        """Where a value is, in per cent of a cell; the ends of the cell for what is beyond."""
        if not self.low <= value <= self.high:
            return 100.0 if value > 0 else 0.0
        return 100 * (_FREE + (1 - 2 * _FREE) * (value - self.low) / (self.high - self.low))

    def draw(self, strip: Strip) -> Drawn:
        """A strip on the axis."""
        margin, mean = strip.margin, strip.mean
        band = (self.place(-margin), self.place(margin)) if math.isfinite(margin) else None
        beyond = "right" if mean > self.high else "left" if mean < self.low else ""
        return Drawn(
            mean, self.place(strip.low), self.place(strip.high), self.place(mean), band, beyond
        )


def axis_of(strips: Sequence[Strip]) -> StripAxis | None:
    """The axis on which all strips are drawn; None where there are none.

    It ends at the same ratio to both sides, or earlier where nothing reaches that far.
    """
    if not strips:
        return None
    centres = sorted(abs(s.mean) for s in strips if math.isfinite(s.mean))
    margin = max((s.margin for s in strips if math.isfinite(s.margin)), default=0.0)
    wanted = centres[math.ceil(_ON_AXIS * len(centres)) - 1] if centres else 0.0
    furthest = _end(max(wanted, _MARGINS * margin))
    reach = [-min(s.low for s in strips), max(s.high for s in strips)]
    worse, better = (min(furthest, _end(max(end, _MARGINS * margin))) for end in reach)
    return StripAxis(-worse, better)


def _end(reach: float) -> float:
    """The logarithm of the nearest ratio at which an axis may end, above a reach."""
    return next((math.log(end) for end in _ENDS if math.log(end) >= reach), math.log(_ENDS[-1]))
