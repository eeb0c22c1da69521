"""Small intervals in the cells of a grid, all on one axis of ratios."""

from __future__ import annotations

import math
from collections.abc import Sequence

from ferocal.analysis.inference.reach import Reach, ratio_ends
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import significant

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

    def draw(self, strip: Reach) -> Drawn:
        """A strip on the axis."""
        margin, mean = strip.margin, strip.mean
        band = (self.place(-margin), self.place(margin)) if math.isfinite(margin) else None
        beyond = "right" if mean > self.high else "left" if mean < self.low else ""
        low, high = (mean if math.isnan(x) else x for x in (strip.low, strip.high))
        return Drawn(mean, self.place(low), self.place(high), self.place(mean), band, beyond)


def axis_of(strips: Sequence[Reach]) -> StripAxis | None:
    """The axis on which all strips are drawn; None where there are none."""
    return StripAxis(*ratio_ends(strips)) if strips else None
