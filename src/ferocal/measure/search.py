"""Patterns in the output of a run, of which there may be a gigabyte."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from ferocal.bench.execution import Completed
from ferocal.study.sources import compile_pattern

# Characters read at a time, the longest match in an output that is too long for one piece,
# and how much is kept of what lies before the place where the search continues.
_PIECE = 2**22
_LONGEST = 2**16
_BEFORE = 2**16


class SearchError(ValueError):
    """An output in which a pattern cannot be looked for."""


def find_matches(completed: Completed, pattern: str, *, most: int) -> list[str]:
    """What the only group of a pattern matches in an output, at most so many times.

    Raises
    ------
    SearchError
        When a match in a long output is itself longer than 65,536 characters, or the output
        cannot be read.
    """
    expression = compile_pattern(pattern)
    if not completed.is_cut:
        matches = expression.finditer(completed.text)
    elif completed.whole is None:
        raise SearchError("the middle of the output was not kept, so it may be there: print less")
    else:
        matches = _search_file(completed.whole, expression)
    try:
        return [match.group(1) or "" for match in islice(matches, most)]
    except OSError as error:
        raise SearchError(f"the output cannot be read: {error.strerror}") from None


def _search_file(path: Path, expression: re.Pattern[str]) -> Iterator[re.Match[str]]:
    """The matches in a file, the same as if it were searched in one piece."""
    text, start, last = "", 0, False
    with path.open(encoding="utf-8", errors="replace", newline="") as file:
        while not last:
            piece = file.read(_PIECE)
            text, last = text + piece, not piece
            # What begins later may continue in the next piece.
            safe = len(text) + 1 if last else max(start, len(text) - _LONGEST)
            for match in expression.finditer(text, start):
                if match.start() >= safe:
                    break
                if match.end() == len(text) and not last:
                    raise SearchError(f"what {expression.pattern!r} matches has no end in sight")
                yield match
                start = match.end()
            start = max(start, min(safe, len(text)))
            # What lies before still matters to ^ and \b, and to what looks behind.
            cut = max(0, start - _BEFORE)
            text, start = text[cut:], start - cut
