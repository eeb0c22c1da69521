"""Texts in delimited files that a spreadsheet would take for a formula and run."""

from __future__ import annotations

import re

# A quote before such a sign makes a spreadsheet take the cell for a text.
_RISKY = re.compile(r"'*[=+\-@\t\r]")
_GUARDED = re.compile(r"'+[=+\-@\t\r]")
_NUMBER = re.compile(r"[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?")


def guarded(text: str) -> str:
    """A text as it is written into a cell: with a quote before it if it could be run."""
    risky = _RISKY.match(text) is not None and _NUMBER.fullmatch(text) is None
    return f"'{text}" if risky else text


def unguarded(cell: str) -> str:
    """The text that was written into a cell by `guarded`."""
    return cell[1:] if _GUARDED.match(cell) else cell
