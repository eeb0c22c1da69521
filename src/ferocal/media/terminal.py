"""A document in a terminal: folded to its width, a verdict as a sign, what matters in bold."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any, Literal

from rich import box
from rich.console import Console
from rich.padding import Padding
from rich.table import Table as RichTable

from ferocal.documents.blocks import (
    Block,
    Caveats,
    Code,
    Column,
    Document,
    Grid,
    GridCell,
    Heading,
    Items,
    Line,
    Lines,
    Next,
    Section,
    Table,
)
from ferocal.media.console import Text, fold, fold_with, plain_words, room, show_beside
from ferocal.media.grid import grid_lines
from ferocal.media.signs import VERDICT_STYLES, Signs

_INDENT = "  "
# What is longer in the last column of a table is folded before anything is left out.
_LAST = 24
# Columns of short names are kept whole where as much is left for each of the others.
_FOLDED = 9


def show(console: Console, document: Document) -> None:
    """Print a document; what only a page has room for, and figures, are not in it."""
    if document.question:
        console.print(document.question, style="bold")
    before: Block | None = None
    for block in flat(document.blocks):
        writer = _WRITERS.get(type(block))
        if writer is None or (isinstance(block, Lines) and not block.lines):
            continue
        if (before is not None or document.question) and not _is_close(before, block):
            console.print()
        writer(console, block)
        before = block


def flat(blocks: Iterable[Block]) -> Iterator[Block]:
    """Blocks with the parts of a page as headings and what follows them."""
    for block in blocks:
        if isinstance(block, Section):
            yield Heading(block.title)
            yield from flat(block.blocks)
        else:
            yield block


def _is_close(before: Block | None, block: Block) -> bool:
    """Whether no empty line stands between two blocks."""
    if isinstance(before, Heading) or (isinstance(before, Caveats) and isinstance(block, Next)):
        return True
    if not isinstance(block, Lines) or block.role == "answer":
        return False
    return isinstance(before, Lines) or (block.role == "note" and before is not None)


def _heading(console: Console, block: Heading) -> None:
    console.print(Text(block.text, "bold"))


def _lines(console: Console, block: Lines) -> None:
    """Sentences; what does not fit a line goes below its text, not below its head."""
    heads = [len(line.head) for line in block.lines if line.head]
    margin = max(heads, default=-2) + 2
    style = "dim" if block.role == "note" else ""
    for line in block.lines:
        beside = margin if line.head else 0
        for number, part in enumerate(_folded(line, room(console, beside))):
            head = f"{'' if number else line.head:<{beside}}"
            shown = Text.assemble((head, _head_style(line)), (part, style))
            console.print(shown, soft_wrap=True)


def _head_style(line: Line) -> str:
    return "bold" if line.verdict is None else VERDICT_STYLES[line.verdict] or "bold"


def _folded(line: Line, width: int) -> list[str]:
    """The lines of a sentence with its command; in fewer words where it has some that fit."""
    text = line.text
    if line.shorter and len(text) > width:
        text = next((short for short in line.shorter if len(short) <= width), text)
    if line.command is not None:
        return fold_with(text, line.command, width)
    return fold(text, width, line.together)


def _grid(console: Console, block: Grid) -> None:
    for line in grid_lines(block, console.width, words=plain_words(console)):
        console.print(line, soft_wrap=True)


def _table(console: Console, block: Table) -> None:
    """Groups are tables under a line with their name; columns are as wide in all of them."""
    signs = Signs(words=plain_words(console))
    columns, groups = _fitting(block, signs, console.width)
    if block.title:
        console.print(Text(block.title, "bold"))
    grouped = len(groups) > 1 or groups[0][0] is not None
    everything = [row for _, rows in groups for row in rows]
    widths = _widths(columns, everything)
    tight = not grouped and sum(widths) + 3 * (len(columns) - 1) > console.width
    folded = _folded_columns(columns, everything, console) if tight else None
    for number, (line, rows) in enumerate(groups):
        if line is not None:
            console.print(Text.assemble((line.head, "bold"), "  " if line.text else "", line.text))
        made = _rich_table(columns, rows, folded)
        if grouped:
            made.box, made.show_header = None, number == 0
            for column, least in zip(made.columns[:-1], widths, strict=False):
                column.min_width, column.no_wrap = least, True
        console.print(Padding(made, (0, 0, int(grouped), int(grouped)), expand=False))
    notes = (note for column in columns for note in column.notes)
    for note in (block.caption, *notes, *signs.footnotes):
        if note:
            console.print(Text(note, "dim"), soft_wrap=True)


_Rows = list[list[Text]]


def _fitting(
    block: Table, signs: Signs, width: int
) -> tuple[Sequence[Column], list[tuple[Line | None, _Rows]]]:
    """Columns and rows, without what can be spared where all of it does not fit."""

    def written(keep: Sequence[int], *, short: bool) -> list[tuple[Line | None, _Rows]]:
        return [
            (line, [[_cell(row[n], signs, short=short) for n in keep] for row in rows])
            for line, rows in block.groups
        ]

    everything = list(range(len(block.columns)))
    for short in (False, True):
        whole = written(everything, short=short)
        rows = [row for _, members in whole for row in members]
        *fixed, last = _widths(block.columns, rows)
        if sum(fixed) + min(last, _LAST) + 3 * len(fixed) <= width:
            return block.columns, whole
    keep = [n for n in everything if not block.columns[n].spare]
    return [block.columns[n] for n in keep], written(keep, short=True)


def _widths(columns: Sequence[Column], rows: _Rows) -> list[int]:
    cells = ([len(row[n]) for row in rows] for n in range(len(columns)))
    return [max([len(c.head), *own]) for c, own in zip(columns, cells, strict=True)]


def _folded_columns(columns: Sequence[Column], rows: _Rows, console: Console) -> set[int]:
    """The columns that may be folded: those of names too, unless it takes no more lines without."""
    widths = _widths(columns, rows)
    folded = {n for n, column in enumerate(columns) if not column.whole}
    names = [n for n in folded if not any(" " in row[n].plain for row in rows)]
    kept = folded.copy()
    least = [min(w, _FOLDED) if n in folded else w for n, w in enumerate(widths)]
    room = console.width - 2 * (len(columns) - 1) - sum(least)
    for n in sorted(names, key=lambda n: widths[n]):
        room -= widths[n] - least[n]
        if room < 0:
            break
        kept.remove(n)

    def lines(columns_folded: set[int]) -> int:
        return len(console.render_lines(_rich_table(columns, rows, columns_folded), pad=False))

    return min((kept, folded), key=lines)


def _rich_table(columns: Sequence[Column], rows: _Rows, folded: set[int] | None) -> RichTable:
    """A table; where columns are to be ``folded``, with less between them."""
    tight = folded is not None
    table = RichTable(
        box=box.SIMPLE_HEAD,
        show_edge=False,
        pad_edge=False,
        padding=(0, 1, 0, 0) if tight else (0, 1),
        header_style="bold",
    )
    for n, column in enumerate(columns):
        justify: Literal["left", "right"] = "right" if column.right else "left"
        whole = column.whole or (folded is not None and n not in folded)
        table.add_column(column.head, justify=justify, no_wrap=whole, overflow="fold")
    for row in rows:
        table.add_row(*row)
    return table


def _cell(cell: GridCell, signs: Signs, *, short: bool) -> Text:
    """A cell of a table, where a verdict is in words already."""
    sign = signs.plain(cell.sign).strip()
    number = cell.shorter if short and cell.shorter else cell.number
    text = " ".join(filter(None, (number, cell.rest, sign))) + signs.marks(cell.notes)
    style = VERDICT_STYLES[cell.verdict] if cell.verdict else "bold" if cell.strong else ""
    return Text(text, style)


def _caveats(console: Console, block: Caveats) -> None:
    """As many caveats as fit a few lines, and how to see the others."""
    lines: list[str] = []
    for number, line in enumerate(block.lines):
        further = _folded(line, room(console))
        if block.most and lines and len(lines) + len(further) > block.most:
            rest = len(block.lines) - number
            lines.append(f"{rest} more{f': {block.look}' if block.look else ''}")
            break
        lines += further
    show_beside(console, "caveats", lines)


def _next(console: Console, block: Next) -> None:
    lines = [part for line in block.lines for part in _folded(line, room(console))]
    show_beside(console, "next", lines)


def _items(console: Console, block: Items) -> None:
    if block.title:
        console.print(Text(block.title, "bold"))
    for line, below in block.items:
        _item(console, line, 1 if block.title else 0)
        for part in below:
            _item(console, part, 2 if block.title else 1)


def _item(console: Console, line: Line, depth: int) -> None:
    """An item; what does not fit its line is indented further."""
    indent, head = _INDENT * depth, f"{line.head} " if line.head else ""
    width = room(console, len(indent + _INDENT))
    first, *rest = _folded(replace(line, text=f"{head}{line.text}"), width)
    shown = Text.assemble(indent, (head, _head_style(line)), first[len(head) :])
    console.print(shown, soft_wrap=True)
    for part in rest:
        console.print(Text(indent + _INDENT + part), soft_wrap=True)


def _code(console: Console, block: Code) -> None:
    for line in block.text.splitlines():
        console.print(Text(line), soft_wrap=True)


_WRITERS: dict[type, Callable[[Console, Any], None]] = {
    Heading: _heading,
    Lines: _lines,
    Grid: _grid,
    Table: _table,
    Caveats: _caveats,
    Next: _next,
    Items: _items,
    Code: _code,
}
