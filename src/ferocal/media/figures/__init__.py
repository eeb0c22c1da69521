"""Figures, one module per kind of chart with a function `draw`; loaded when one is drawn.

A module draws a finished result, and computes no statistics.
"""

from __future__ import annotations

import importlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ferocal.documents.blocks import Chart, Document
from ferocal.errors import NothingToShowError

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def draw(chart: Chart) -> Figure:
    """The figure of a chart."""
    module: Any = importlib.import_module(f"ferocal.media.figures.{chart.kind}")
    figure: Figure = module.draw(chart.data)
    return figure


def figure_text(chart: Chart) -> str:
    """The figure of a chart as an SVG element, for a page."""
    from ferocal.media.figures.saving import figure_svg

    return figure_svg(draw(chart))


def save_charts(document: Document, path: Path, *, force: bool = False) -> list[Path]:
    """Write a figure for every chart of a document; where there are several, named for them.

    Raises
    ------
    NothingToShowError
        When the document has no chart.
    FerocalError
        When a file cannot be written.
    """
    from ferocal.media.figures.saving import save_figure

    charts = [block for block in document.blocks if isinstance(block, Chart)]
    if not charts:
        raise NothingToShowError(f"{path}: this result has no chart")
    written = []
    for chart in charts:
        target = path
        if len(charts) > 1:
            target = path.with_name("-".join([path.stem, *chart.names]) + path.suffix)
        save_figure(draw(chart), target, force=force)
        written.append(target)
    return written
