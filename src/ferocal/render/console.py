"""The console that everything is printed on."""

from __future__ import annotations

import os
import sys

from rich.console import Console


def make_console(*, stderr: bool = False) -> Console:
    """A console that is plain and 100 columns wide unless it is a terminal."""
    stream = sys.stderr if stderr else sys.stdout
    # Names and outputs are the user's: square brackets in them are not markup.
    if stream.isatty():
        return Console(stderr=stderr, highlight=False, markup=False, emoji=False)
    width = os.environ.get("COLUMNS", "")
    return Console(
        stderr=stderr,
        highlight=False,
        markup=False,
        emoji=False,
        width=int(width) if width.isdecimal() else 100,
        no_color=True,
    )
