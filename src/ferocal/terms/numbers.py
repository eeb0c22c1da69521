"""Numbers as people read them, in sentences as in tables."""

from __future__ import annotations

import math
import re

MINUS = "\N{MINUS SIGN}"
# Between groups of digits, where a comma or a point would be read as a decimal sign by some
# (ISO 80000-1, 7.3.1).
GROUP = "\N{NARROW NO-BREAK SPACE}"
# Between a number and its sign no line is broken.
NO_BREAK = "\N{NO-BREAK SPACE}"
_BEFORE_SIGN = re.compile(r"(?<=\d) (?=%)|(?<=\N{MULTIPLICATION SIGN}) ")


_NUMBER = re.compile(r"\s*[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\s*", re.ASCII)
_NO_NUMBER = re.compile(r"\s*[-+]?(nan|inf|infinity)\s*", re.ASCII | re.IGNORECASE)


def plain_number(text: str) -> float:
    """A number as programs write it; "6_0" and digits of other scripts are none.

    Raises
    ------
    ValueError
        When it is something else.
    """
    if not (_NUMBER.fullmatch(text) or _NO_NUMBER.fullmatch(text)):
        raise ValueError(f"{text!r} is not a number")
    return float(text)


def unbroken(text: str) -> str:
    """A text in which no line is broken between a number and its sign."""
    return _BEFORE_SIGN.sub(NO_BREAK, text)


def grouped(value: float, decimals: int = 0) -> str:
    """A number with so many decimals, its digits in groups of three from five digits on."""
    text = f"{value:,.{decimals}f}"
    return text.replace(",", GROUP if abs(value) >= 9999.5 else "")


def significant(value: float, digits: int = 4) -> str:
    """A number with so many significant digits, without an exponent where one can do."""
    if not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    exponent = math.floor(math.log10(abs(value)))
    if not -4 <= exponent < 9:
        return f"{value:.{digits - 1}e}"
    return grouped(value, max(0, digits - 1 - exponent))


def signed_significant(value: float, digits: int = 2) -> str:
    """A number with its sign and so many significant digits; zero has no sign."""
    text = significant(abs(value), digits)
    return text if value == 0 else f"{'+' if value > 0 else MINUS}{text}"


def as_read(value: float, digits: int = 5) -> str:
    """A reading with at most so many significant digits, and none that it does not have."""
    text = significant(value, digits)
    return text.rstrip("0").rstrip(".") if "." in text and "e" not in text else text
