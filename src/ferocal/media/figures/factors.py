"""The figure of factors: a row for every level, as of effects."""

from __future__ import annotations

from ferocal.media.figures.effects import draw

__all__ = ["draw"]
