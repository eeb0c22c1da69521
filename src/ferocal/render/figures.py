"""The one style of all figures; they draw finished results and compute no statistics."""

from __future__ import annotations

from typing import Any

INK = "#1c2833"
FAINT = "#8a949e"
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "svg.fonttype": "none",
    "svg.hashsalt": "ferocal",  # the same figure gives the same bytes
}
