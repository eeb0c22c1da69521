"""Small pieces of sentences, for all layers that write some."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.terms.numbers import grouped

# Stands where the end of a text was cut off.
CUT = "\N{HORIZONTAL ELLIPSIS}"


def counted(count: int, noun: str, plural: str | None = None) -> str:
    """A count with its noun, "1 round" or "3 rounds"."""
    return f"{grouped(count)} {noun if count == 1 else plural or noun + 's'}"


def be(count: int) -> str:
    """The verb that goes with a count."""
    return "is" if count == 1 else "are"


def listed(parts: Sequence[str]) -> str:
    """Parts in one piece: "a", "a and b", "a, b and c"."""
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"


def first_line(error: BaseException) -> str:
    """What the system says of an error, else its first line, or its kind where it has none."""
    said = getattr(error, "strerror", None) or str(error)
    return next(iter(str(said).splitlines()), "") or type(error).__name__


def shortened(text: str, most: int = 80) -> str:
    """A text short enough for a message, with its beginning."""
    return text if len(text) <= most else f"{text[: most - 1]}{CUT}"
