"""Small intervals in the cells of a grid, each row on its own scale."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from ferocal.documents.blocks import Strip

# The share of a cell that is left free on either side of what is drawn.
_FREE = 0.06
# Metrics whose intervals are far narrower than the margin are drawn on the scale of that.
_MARGINS = 1.5


@dataclass(frozen=True)
class Drawn:
    """Where the interval, its centre, the margin and no change are, in per cent of a cell."""

    low: float
    high: float
    centre: float
    band: tuple[float, float] | None
    zero: float


def draw_strips(strips: Mapping[str, Strip | None]) -> dict[str, Drawn | None]:
    """The strips of a row on its scale: what all of its intervals and its margin take."""
    known = [strip for strip in strips.values() if strip is not None]
    ends = [0.0]
    for strip in known:
        ends += [v for v in (strip.low, strip.mean, strip.high) if math.isfinite(v)]
        if math.isfinite(strip.margin):
            ends += [-_MARGINS * strip.margin, _MARGINS * strip.margin]
    low, span = min(ends), (max(ends) - min(ends)) or 1.0

    def place(value: float) -> float:
        """Where a value is; the ends for what is beyond them."""
        if not math.isfinite(value):
            return 100.0 if value > 0 else 0.0
        return 100 * (_FREE + (1 - 2 * _FREE) * (value - low) / span)

    def draw(strip: Strip) -> Drawn:
        margin = strip.margin
        band = (place(-margin), place(margin)) if math.isfinite(margin) else None
        return Drawn(place(strip.low), place(strip.high), place(strip.mean), band, place(0.0))

    return {name: None if strip is None else draw(strip) for name, strip in strips.items()}
