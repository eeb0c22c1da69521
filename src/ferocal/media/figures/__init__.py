"""Figures, one module per kind of chart with a function `draw`; loaded when one is drawn.

A module draws a finished result, and computes no statistics.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ferocal.documents.blocks import Block, Chart, Details, Section
from ferocal.errors import NothingToShowError
from ferocal.media.figures.style import drawing, make_slide
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from matplotlib.figure import Figure


# The endings of files of figures.
FORMATS = (".svg", ".png", ".pdf")


@dataclass(frozen=True)
class Look:
    """How a figure is written: its size in pixels at ``dpi``, on a dark ground or a light one.

    Without a ``size`` every kind of figure has its own. A slide has a ``title``, the answer, in
    place of that of the figure, and ``source`` at its foot.
    """

    size: tuple[int, int] | None = None
    dpi: int = 100
    dark: bool = False
    title: str = ""
    source: str = ""

    @property
    def inches(self) -> tuple[float, float] | None:
        """The size in inches."""
        return None if self.size is None else (self.size[0] / self.dpi, self.size[1] / self.dpi)


def draw(chart: Chart, look: Look | None = None) -> Figure:
    """The figure of a chart, within `style.drawing`."""
    look = look or Look()
    module: Any = importlib.import_module(f"ferocal.media.figures.{chart.kind}")
    figure: Figure = module.draw(chart.data, look.inches)
    if look.title:
        make_slide(figure, look.title, look.source)
    return figure


def figure_text(chart: Chart, prefix: str = "", *, fixed: bool = False) -> str:
    """The figure of a chart as an SVG element, for a page; its ids begin with ``prefix``.

    Its colours are those of the page, unless they are ``fixed``.
    """
    from ferocal.media.figures.saving import figure_svg

    with drawing():
        return figure_svg(draw(chart), prefix, fixed=fixed)


def save_charts(
    blocks: Iterable[Block], path: Path, look: Look | None = None, *, force: bool = False
) -> list[Path]:
    """Write a figure for every chart of a document; where there are several, named for them.

    Raises
    ------
    NothingToShowError
        When the document has no chart.
    FerocalError
        When a file cannot be written.
    """
    charts = [block for block in blocks if isinstance(block, Chart)]
    if not charts:
        raise NothingToShowError(f"{path}: this result has no chart")
    written = []
    for chart in charts:
        target = path
        if len(charts) > 1:
            target = path.with_name("-".join([path.stem, *chart.names]) + path.suffix)
        save_chart(chart, target, look or Look(), force=force)
        written.append(target)
    return written


def save_chart(chart: Chart, path: Path, look: Look, *, force: bool = False) -> None:
    """Write the figure of one chart, in the format that the name of the file says."""
    from ferocal.media.figures.saving import save_figure

    with drawing(dark=look.dark):
        save_figure(draw(chart, look), path, look.dpi, chart.alternative, force=force)


def charts_within(blocks: Iterable[Block]) -> list[Chart]:
    """All charts of blocks, also of their parts, in their order."""
    found: list[Chart] = []
    for block in blocks:
        if isinstance(block, Chart):
            found.append(block)
        elif isinstance(block, (Section, Details)):
            found += charts_within(block.blocks)
    return found
