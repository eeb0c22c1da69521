"""The console that everything is printed on."""

from __future__ import annotations

import io
import os
import sys
import textwrap
from collections.abc import Iterable, Sequence
from typing import Any, Self

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text as RichText

from ferocal.terms.numbers import NO_BREAK, unbroken
from ferocal.terms.signs import visible

# Before the lines of a paragraph stands a word, in a margin of this width.
MARGIN = 9


class Text(RichText):
    """A text in which invisible signs are shown; others drop some and leave some in."""

    def __init__(self, text: str = "", *styles: Any, **settings: Any) -> None:
        super().__init__(visible(text), *styles, **settings)

    @classmethod
    def assemble(cls, *parts: Any, **settings: Any) -> Self:
        """A text of parts: texts, or texts with their styles."""
        text = cls(**settings)
        for part in parts:
            text.append(*(part if isinstance(part, tuple) else (part,)))
        return text

    def append(self, text: RichText | str, *styles: Any, **settings: Any) -> Self:
        """Add a text at the end."""
        shown = visible(text) if isinstance(text, str) else text
        super().append(shown, *styles, **settings)
        return self


class PlainConsole(Console):
    """A console on which texts of the user cannot do anything but be read."""

    def render_str(self, text: str, **settings: Any) -> RichText:
        """A text, with invisible signs in it shown."""
        return super().render_str(visible(text), **settings)

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        """The pieces of something, with invisible signs shown that came in by another way."""
        for piece in super().render(renderable, options):
            yield piece if piece.control else piece._replace(text=visible(piece.text))


def make_console(*, stderr: bool = False) -> Console:
    """A console that is plain and 100 columns wide unless it is a terminal."""
    stream = sys.stderr if stderr else sys.stdout
    # Names and outputs are the user's: square brackets in them are not markup.
    if stream.isatty():
        return PlainConsole(stderr=stderr, highlight=False, markup=False, emoji=False)
    width = os.environ.get("COLUMNS", "")
    return PlainConsole(
        stderr=stderr,
        highlight=False,
        markup=False,
        emoji=False,
        width=int(width) if width.isdecimal() else 100,
        no_color=True,
    )


def file_console() -> Console:
    """A console for a text in a file: plain, in UTF-8, 100 columns wide."""
    return PlainConsole(
        file=io.StringIO(), record=True, highlight=False, markup=False, emoji=False, width=100,
        no_color=True, force_terminal=False, legacy_windows=False,
    )  # fmt: skip


def fold(text: str, width: int, together: Sequence[str] = ()) -> list[str]:
    """The lines of a sentence, broken between words only, and within no name of ``together``."""
    # What is private is masked while it is still in one piece.
    text = visible(text)
    for name in together:
        text = text.replace(name, name.replace(" ", NO_BREAK))
    lead = len(text) - len(text.lstrip())
    lines = textwrap.wrap(
        unbroken(text),
        width,
        subsequent_indent=" " * lead,
        break_long_words=False,
        break_on_hyphens=False,
    )
    return [line.replace(NO_BREAK, " ") for line in lines] or [""]


def fold_with(text: str, command: str | None, width: int) -> list[str]:
    """A sentence and the command that goes with it, which is never broken, line by line."""
    lines = fold(text if command is None else f"{text}:", width)
    if command is not None and len(lines[-1]) + 1 + len(command) <= width:
        lines[-1] += f" {command}"
    elif command is not None:
        lines.append(command)
    return lines


def room(console: Console, margin: int = MARGIN) -> int:
    """How wide the lines beside a margin can be."""
    return max(20, console.width - margin)


def show_beside(
    console: Console,
    head: str,
    lines: Sequence[str],
    *,
    margin: int = MARGIN,
    together: Sequence[str] = (),
) -> None:
    """Lines with a word in the margin of the first; long ones are folded as by `fold`."""
    folded = [part for line in lines for part in fold(line, room(console, margin), together)]
    for number, line in enumerate(folded):
        words = f"{'' if number else head:<{margin}}"
        console.print(Text.assemble((words, "bold"), line), soft_wrap=True)


def plain_words(console: Console) -> bool:
    """Whether words stand for signs: on a terminal that has no others, or where asked for."""
    return bool(os.environ.get("NO_COLOR")) or not console.encoding.lower().startswith("utf")
