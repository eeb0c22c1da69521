"""A document as one self-contained HTML page; a Jinja template for every block."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from ferocal._version import __version__
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import Block, Chart, Document, Grid, GridCell, Row, Strip, Table
from ferocal.media.signs import Signs
from ferocal.terms.numbers import unbroken
from ferocal.terms.signs import visible


def page(document: Document, source: str = "") -> str:
    """The HTML text of a document; ``source`` says from what it was written."""
    environment = Environment(
        loader=PackageLoader("ferocal.media.html"),
        autoescape=True,
        undefined=StrictUndefined,
        finalize=_shown,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(css=_css, unbroken=unbroken, arrow=Signs().arrow)
    environment.globals.update(blocks=partial(_blocks, environment))
    return environment.get_template("page.html").render(
        document=document, version=__version__, source=source
    )


def _shown(value: object) -> object:
    """Texts of the user with invisible signs shown; what is markup already is ours."""
    plain = isinstance(value, str) and not hasattr(value, "__html__")
    return visible(str(value)) if plain else value


def _css(verdict: Verdict | None) -> str:
    """The class of what has a verdict."""
    return "" if verdict is None else str(verdict).replace(" ", "-")


def _blocks(environment: Environment, blocks: tuple[Block, ...]) -> Markup:
    """The HTML of blocks, one after the other."""
    return Markup("").join(_block(environment, block) for block in blocks)


def _block(environment: Environment, block: Block) -> Markup:
    template = environment.get_template(f"blocks/{type(block).__name__.lower()}.html")
    return Markup(template.render(block=block, **_values(block)))


def _values(block: Block) -> dict[str, Any]:
    """What the template of a block needs besides the block."""
    if isinstance(block, Grid):
        return _grid(block)
    if isinstance(block, Table):
        signs = Signs()
        groups = [
            (line, [[_PageCell.of(cell, signs) for cell in row] for row in rows])
            for line, rows in block.groups
        ]
        return {"groups": groups, "footnotes": signs.footnotes}
    if isinstance(block, Chart):
        from ferocal.media.figures import figure_text

        return {"svg": Markup(figure_text(block))}
    return {}


@dataclass(frozen=True)
class _PageCell:
    """A cell with its text, the marks of its notes, and the strip that is drawn."""

    cell: GridCell
    text: str
    sign: str
    marks: str
    strip: Drawn | None = None
    name: str = ""

    @classmethod
    def of(
        cls,
        cell: GridCell,
        signs: Signs,
        strip: Drawn | None = None,
        name: str = "",
        sign: str = "",
    ) -> _PageCell:
        return cls(cell, cell.text, sign or cell.sign.strip(), signs.marks(cell.notes), strip, name)


def _grid(grid: Grid) -> dict[str, Any]:
    signs = Signs()
    columns = {name: name + signs.marks(notes) for name, notes in grid.columns.items()}
    base = None if grid.base is None else grid.base.head + signs.marks(grid.base.notes)
    rows = [_row(row, grid, signs) for row in grid.rows]
    return {
        "columns": columns,
        "base": base,
        "rows": rows,
        "drawn": any(cell.strip for _, _, _, cells in rows for cell in cells),
        "legend": signs.legend(grid),
        "footnotes": signs.footnotes,
    }


def _row(row: Row, grid: Grid, signs: Signs) -> tuple[Row, str, _PageCell, list[_PageCell]]:
    """A row with its label, the cell of the base, and the others."""
    label = signs.label(row, row.label)
    strips = draw_strips({name: cell.strip for name, cell in row.cells.items()})
    base = _PageCell.of(row.base, signs, name=grid.base.head if grid.base else "")
    cells = [
        _PageCell.of(cell, signs, strips[name], name, signs.of(cell).strip())
        for name, cell in row.cells.items()
    ]
    return row, label, base, cells


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
