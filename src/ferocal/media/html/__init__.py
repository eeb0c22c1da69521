"""A document as one self-contained HTML page; a Jinja template for every block."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup, escape

from ferocal._version import __version__
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import (
    Block,
    Chart,
    Details,
    Document,
    Grid,
    GridCell,
    Line,
    Place,
    Row,
    Section,
    Table,
    method_anchor,
)
from ferocal.media.html.strips import Drawn, StripAxis, axis_of
from ferocal.media.signs import Signs
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import unbroken
from ferocal.terms.signs import visible


def page(document: Document, source: str = "", *, on_paper: bool = False) -> str:
    """The HTML text of a document; ``source`` says from what it was written.

    A page that is ``on_paper`` is light, and has nothing that is folded or sorted.
    """
    return _Page(document, on_paper=on_paper).render(source)


class _Page:
    """The page of a document: what templates call, and where links can lead."""

    def __init__(self, document: Document, *, on_paper: bool) -> None:
        self.document, self.on_paper = document, on_paper
        self.anchors = set(_anchors(document.blocks)) - {""}
        self.figures = 0
        self.environment = Environment(
            loader=PackageLoader("ferocal.media.html"),
            autoescape=True,
            undefined=StrictUndefined,
            finalize=_shown,
            trim_blocks=True,
            lstrip_blocks=True,
        )
        self.environment.filters.update(css=_css, arrow=Signs().arrow)
        self.environment.globals.update(
            blocks=self.blocks, words=self.words, number=self.number, sign=self.sign,
            on_paper=on_paper,
        )  # fmt: skip

    def render(self, source: str) -> str:
        sections = [b for b in self.document.blocks if isinstance(b, Section)]
        return self.environment.get_template("page.html").render(
            document=self.document, version=__version__, source=source, sections=sections
        )

    def blocks(self, blocks: tuple[Block, ...]) -> Markup:
        """The HTML of blocks, one after the other."""
        return Markup("").join(self._block(block) for block in blocks)

    def _block(self, block: Block) -> Markup:
        template = self.environment.get_template(f"blocks/{type(block).__name__.lower()}.html")
        return Markup(template.render(block=block, **self._values(block)))

    def _values(self, block: Block) -> dict[str, Any]:
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

            self.figures += 1
            text = figure_text(block, f"f{self.figures}-", fixed=self.on_paper)
            return {"svg": Markup(text)}
        return {}

    def words(self, line: Line) -> Markup:
        """The text of a line, with its phrases as links to their runs."""
        rest, made = line.text, Markup("")
        for phrase, place in sorted(line.linked, key=lambda pair: line.text.find(pair[0])):
            before, found, after = rest.partition(phrase)
            if found:
                made += _text(before) + self._link(self._runs(place), phrase)
                rest = after
        return made + _text(rest)

    def number(self, cell: GridCell) -> Markup:
        """The number of a cell as a link to its runs, or to what it names."""
        target = cell.leads_to or (self._runs(cell.place) if cell.place is not None else "")
        return self._link(target, cell.text)

    def sign(self, cell: GridCell, sign: str) -> Markup:
        """The sign or the words of a verdict as a link to the method."""
        target = method_anchor(cell.method) if cell.method else ""
        label = f"{cell.verdict}: {cell.method}" if cell.method and len(sign) == 1 else ""
        return self._link(target, sign, label)

    def _link(self, target: str, text: str, label: str = "") -> Markup:
        if target not in self.anchors or not text:
            return _text(text)
        spoken = Markup(' aria-label="{}"').format(visible(label)) if label else ""
        return Markup('<a href="#{}"{}>{}</a>').format(visible(target), spoken, _text(text))

    def _runs(self, place: Place) -> str:
        """Where the runs of a number are, or those of its metric."""
        own = place.anchor
        return own if own in self.anchors else place._replace(configuration="").anchor


def _anchors(blocks: Iterable[Block]) -> Iterator[str]:
    """Everything on a page to which links can lead."""
    for block in blocks:
        if isinstance(block, Section):
            yield block.key
        if isinstance(block, Details):
            yield block.anchor
        if isinstance(block, Table):
            yield from (cell.anchor for row in block.rows for cell in row)
        if isinstance(block, (Section, Details)):
            yield from _anchors(block.blocks)


def _text(text: str) -> Markup:
    return escape(unbroken(visible(text)))


def _shown(value: object) -> object:
    """Texts of the user with invisible signs shown; what is markup already is ours."""
    plain = isinstance(value, str) and not hasattr(value, "__html__")
    return visible(str(value)) if plain else value


def _css(verdict: Verdict | None) -> str:
    """The class of what has a verdict."""
    return "" if verdict is None else str(verdict).replace(" ", "-")


@dataclass(frozen=True)
class _PageCell:
    """A cell with its sign, the marks of its notes, and the strip that is drawn."""

    cell: GridCell
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
        return cls(cell, sign or cell.sign.strip(), signs.marks(cell.notes), strip, name)


def _grid(grid: Grid) -> dict[str, Any]:
    signs = Signs()
    columns = {name: name + signs.marks(notes) for name, notes in grid.columns.items()}
    base = None if grid.base is None else grid.base.head + signs.marks(grid.base.notes)
    strips = (cell.strip for row in grid.rows for cell in row.cells.values())
    axis = axis_of([strip for strip in strips if strip is not None])
    rows = list(_rows(grid, axis, signs))
    plain = any(row.cells and not any(c.strip for c in cells) for row, _, _, _, cells in rows)
    return {
        "columns": columns,
        "base": base,
        "rows": rows,
        "axis": axis,
        "plain": plain,
        "legend": signs.legend(grid),
        "footnotes": signs.footnotes,
    }


def _rows(
    grid: Grid, axis: StripAxis | None, signs: Signs
) -> Iterator[tuple[Row, str, str, _PageCell, list[_PageCell]]]:
    """Every row with its label, its whole name, the cell of the base, and the others."""
    section = ""
    for row in grid.rows:
        label = signs.label(row, row.label)
        if not row.cells:
            section = row.label
        whole = label if row.alone or not row.depth else f"{section} {label}"
        base = _PageCell.of(row.base, signs, name=grid.base.head if grid.base else "")
        cells = []
        for name, cell in row.cells.items():
            strip = None if axis is None or cell.strip is None else axis.draw(cell.strip)
            cells.append(_PageCell.of(cell, signs, strip, name, signs.of(cell).strip()))
        yield row, label, whole, base, cells
