"""The console that everything is printed on."""

from __future__ import annotations

import os
import sys
from typing import Any

from rich.console import Console
from rich.text import Text

from ferocal.terms.signs import visible


class PlainConsole(Console):
    """A console on which texts of the user cannot do anything but be read."""

    def render_str(self, text: str, **settings: Any) -> Text:
        """A text, with invisible signs in it shown."""
        return super().render_str(visible(text), **settings)


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
