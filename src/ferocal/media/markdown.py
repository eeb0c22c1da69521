"""A document as Markdown (CommonMark with the tables of GitHub Flavored Markdown)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextvars import ContextVar
from typing import Any
from urllib.parse import quote

from ferocal.documents.blocks import (
    Block,
    Caveats,
    Chart,
    Code,
    Details,
    Document,
    Grid,
    GridCell,
    Heading,
    Items,
    Line,
    Lines,
    Next,
    Row,
    Section,
    Table,
)
from ferocal.media.signs import Signs
from ferocal.terms.signs import visible

# What would be markup, wherever it stands in a line.
_MARKUP = re.compile(r"([\\`*_{}\[\]<>|~])")
# What would be markup at the beginning of a line.
_BEGINNING = re.compile(r"^(\s*)([#+>=-]|\d+[.)])(?=\s)")


# The files of the charts of the document that is being written.
_figures: ContextVar[Mapping[int, str] | None] = ContextVar("figures", default=None)


def markdown(document: Document, figures: Mapping[int, str] | None = None) -> str:
    """The text of a document; ``figures`` are the files of its charts, by their identity."""
    parts = [f"# {_plain(document.question)}"] if document.question else []
    parts += [_plain(document.author)] if document.author else []
    token = _figures.set(figures)
    try:
        return "\n\n".join([*parts, *_blocks(document.blocks)]) + "\n"
    finally:
        _figures.reset(token)


def _plain(text: str) -> str:
    """A text of the user, in which nothing is markup."""
    joined = " ".join(visible(text).split())
    return _BEGINNING.sub(r"\1\\\2", _MARKUP.sub(r"\\\1", joined))


def _blocks(blocks: Iterable[Block]) -> Iterator[str]:
    for block in blocks:
        text = _WRITERS[type(block)](block)
        if text:
            yield text


def _line(line: Line) -> str:
    head = f"**{_plain(line.head)}** " if line.head else ""
    command = f": `{line.command}`" if line.command else ""
    mark = f"({line.mark}) " if line.mark else ""
    return f"{mark}{head}{_plain(line.text)}{command}".strip()


def _heading(block: Heading) -> str:
    return f"{'#' * block.level} {_plain(block.text)}"


def _lines(block: Lines) -> str:
    return "\n\n".join(_line(line) for line in block.lines)


def _bullets(lines: Iterable[Line]) -> str:
    return "\n".join(f"- {_line(line)}" for line in lines)


def _labelled(label: str) -> Callable[[Caveats | Next], str]:
    return lambda block: f"**{label}**\n\n{_bullets(block.lines)}" if block.lines else ""


def _items(block: Items) -> str:
    lines = []
    for line, below in block.items:
        lines += [f"- {_line(line)}", *(f"  - {_line(part)}" for part in below)]
    title = f"**{_plain(block.title)}**\n\n" if block.title else ""
    return title + "\n".join(lines)


def _grid(block: Grid) -> str:
    """A table in which the unit and the direction have separate columns."""
    signs = Signs()
    heads = [("metric", False), ("unit", False), ("better", False)]
    if block.base is not None:
        heads.append((" ".join(filter(None, (block.base.head, block.base.below))), True))
    heads += [(name + signs.marks(notes), True) for name, notes in block.columns.items()]
    rows = [_row(row, block, signs) for row in block.rows]
    width = len(heads)
    texts = [row + [""] * (width - len(row)) for row in rows]
    return _whole(_grid_of(heads, texts), [signs.legend(block), block.below, *signs.footnotes])


def _row(row: Row, grid: Grid, signs: Signs) -> list[str]:
    label = signs.label(row, _plain(row.label))
    if not row.cells:
        return [f"**{label}**"]
    cells = [row.cells[name] for name in grid.columns]
    based = [] if grid.base is None else [_cell(row.base, signs)]
    return [
        "\N{EM SPACE}" * max(0, row.depth - row.alone) + label,
        _plain(row.unit),
        signs.arrow(row.better).strip(),
        *based,
        *(_cell(cell, signs, signs.of(cell).strip()) for cell in cells),
    ]


def _cell(cell: GridCell, signs: Signs, sign: str = "") -> str:
    text = _plain(f"{cell.text} {sign}".strip())
    marks = signs.marks(cell.notes) + (f" ({cell.doubts})" if cell.doubts else "")
    return f"**{text}**{marks}" if cell.strong and text else text + marks


def _table(block: Table) -> str:
    signs = Signs()
    heads = [(column.head, column.right) for column in block.columns]
    texts: list[list[str]] = []
    for line, rows in block.groups:
        if line is not None:
            texts.append([_line(line), *[""] * (len(heads) - 1)])
        texts += [[_cell(cell, signs, cell.sign.strip()) for cell in row] for row in rows]
    title = f"**{_plain(block.title)}**\n\n" if block.title else ""
    notes = [note for column in block.columns for note in column.notes]
    return title + _whole(_grid_of(heads, texts), [block.caption, *notes, *signs.footnotes])


def _grid_of(heads: Sequence[tuple[str, bool]], rows: Iterable[Sequence[str]]) -> str:
    rule = ["---:" if right else "---" for _, right in heads]
    lines = [[_plain(head) for head, _ in heads], rule, *rows]
    return "\n".join(f"| {' | '.join(line)} |" for line in lines)


def _whole(table: str, notes: Iterable[str]) -> str:
    return "\n\n".join([table, *(_plain(note) for note in notes if note)])


def _chart(block: Chart) -> str:
    """A figure as a link to its file, or in words where it was not drawn."""
    drawn = (_figures.get() or {}).get(id(block))
    if drawn is not None:
        return f"![{_plain(block.alternative)}]({quote(drawn)})"
    return f"*Figure: {_plain(block.alternative)}*" if block.alternative else ""


def _code(block: Code) -> str:
    fence = "```"
    while fence in block.text:
        fence += "`"
    return f"{fence}\n{block.text}\n{fence}"


def _details(block: Details) -> str:
    return "\n\n".join([f"**{_plain(block.summary)}**", *_blocks(block.blocks)])


def _section(block: Section) -> str:
    return "\n\n".join([f"## {_plain(block.title)}", *_blocks(block.blocks)])


_WRITERS: dict[type, Callable[[Any], str]] = {
    Heading: _heading,
    Lines: _lines,
    Grid: _grid,
    Table: _table,
    Chart: _chart,
    Caveats: _labelled("caveats"),
    Next: _labelled("next"),
    Items: _items,
    Code: _code,
    Details: _details,
    Section: _section,
}
